import { describe, expect, it } from 'vitest'
import type { SensorLine } from '../api/client'
import { leftText, tells } from './sensors'

const sensor = (s: Partial<SensorLine>): SensorLine => ({
  host: 'press-1',
  at: '2026-10-05T08:00:00Z',
  chip: 'coretemp',
  device: '',
  name: 'Package id 0',
  kind: 'temperature',
  unit: '°C',
  value: 61.5,
  state: 'within',
  ...s,
})

describe('a sensor', () => {
  it('tells its value with its unit', () => {
    expect(tells(sensor({}))).toBe('61.5 °C')
    expect(tells(sensor({ kind: 'voltage', unit: 'V', value: 12.066 }))).toBe('12.07 V')
    expect(tells(sensor({ kind: 'supply', unit: '', value: 0 }))).toBe('off')
    expect(tells(sensor({ kind: 'intrusion', unit: '', value: 1 }))).toBe('opened')
    expect(tells(sensor({ kind: 'energy', unit: 'J', value: 7.2e6 }))).toBe('2 kWh')
    expect(tells(sensor({ value: null }))).toBe('–')
  })
  it('tells how far it is from a threshold', () => {
    expect(leftText(sensor({ left: 22.5, to: 'high' }))).toBe('22.5 °C until high')
    expect(leftText(sensor({ left: -11, to: 'high' }))).toBe('11 °C beyond high')
    expect(leftText(sensor({ says: 'charging' }))).toBe('charging')
    expect(leftText(sensor({ unavailable: 'it may be read by root alone' }))).toBe('it may be read by root alone')
  })
})
