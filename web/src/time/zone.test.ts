import { afterEach, describe, expect, it } from 'vitest'
import { choices, setChoices, usual } from '../choices/choices'
import { readTyped, spanWords, typed } from './span'
import { clock, clockSeconds, isSameDay, moment, momentOf, partsOf, readField, zoneName } from './zone'

afterEach(() => setChoices(usual))

const at = '2026-10-25T00:30:05Z'
const parts = (year: number, month: number, day: number, hour: number, minute: number) => ({
  year,
  month,
  day,
  hour,
  minute,
})

describe('times in the zone that was chosen', () => {
  it('are shown and typed in it', () => {
    setChoices({ ...usual, zone: 'Pacific/Auckland' })
    expect(zoneName()).toBe('Pacific/Auckland')
    expect(clockSeconds(at)).toBe('13:30:05')
    expect(moment(at)).toBe('25/10/2026, 13:30')
    expect(typed(new Date(at))).toBe('2026-10-25 13:30')
    expect(readTyped('2026-10-25 13:30', new Date(at))?.toISOString()).toBe('2026-10-25T00:30:00.000Z')
    expect(readTyped('0:05', new Date(at))?.toISOString()).toBe('2026-10-24T11:05:00.000Z')
    expect(readField('2026-10-25T13:30')).toBe('2026-10-25T00:30:00.000Z')
    expect(readField('')).toBeUndefined()
    expect(isSameDay('2026-10-24T12:00:00Z', at)).toBe(true)
    expect(isSameDay('2026-10-24T10:00:00Z', at)).toBe(false)
    const still = { live: false as const, from: new Date('2026-10-24T12:00:00Z'), to: new Date(at) }
    expect(spanWords(still, new Date(at))).toBe('01:00 – 13:30 today')
  })

  it('are in the site’s zone for whoever chose none, and the choice is kept without it', () => {
    setChoices({ ...usual, site_zone: 'Asia/Kathmandu' })
    expect(zoneName()).toBe('Asia/Kathmandu')
    expect(clock(at)).toBe('06:15')
    expect(choices()).not.toHaveProperty('site_zone')
    setChoices({ ...usual, site_zone: 'Asia/Kathmandu', zone: 'UTC' })
    expect(clock(at)).toBe('00:30')
    setChoices(usual)
    expect(zoneName()).toBe(Intl.DateTimeFormat().resolvedOptions().timeZone)
  })

  it('go by clocks that are put forward and back', () => {
    setChoices({ ...usual, zone: 'Europe/Rome' })
    expect(momentOf(parts(2026, 10, 25, 2, 30))?.toISOString(), 'the first of both').toBe('2026-10-25T00:30:00.000Z')
    expect(momentOf(parts(2026, 10, 25, 3, 0))?.toISOString()).toBe('2026-10-25T02:00:00.000Z')
    expect(momentOf(parts(2026, 3, 29, 2, 30)), 'there is no such time').toBeNull()
    expect(momentOf(parts(2026, 3, 29, 3, 30))?.toISOString()).toBe('2026-03-29T01:30:00.000Z')
    expect(momentOf(parts(2026, 2, 30, 3, 30)), 'nor such a day').toBeNull()
    expect(partsOf('2026-03-29T01:30:00Z')).toEqual(parts(2026, 3, 29, 3, 30))
    expect(readTyped('2026-03-29 02:30', new Date(at))).toBeNull()
  })

  it('are told on the clock that was chosen', () => {
    setChoices({ ...usual, zone: 'UTC', clock: '12' })
    expect(clock('2026-10-25T14:20:00Z').toLowerCase()).toBe('02:20 pm')
    setChoices({ ...usual, zone: 'UTC' })
    expect(clock('2026-10-25T00:20:00Z')).toBe('00:20')
    expect(clock('2026-10-25T14:20:00Z')).toBe('14:20')
  })
})
