import { describe, expect, it } from 'vitest'
import type { Folio } from '../api/client'
import {
  added,
  begun,
  changed,
  copied,
  done,
  draftOf,
  folioOf,
  heightened,
  moved,
  putIn,
  redone,
  removed,
  undone,
  widened,
  type Draft,
} from './draft'

const fleet = { kind: 'fleet' } as const
const folio: Folio = {
  format: 1,
  title: 'Press night',
  rows: [
    {
      height: 'low',
      plates: [
        { of: 'a', subject: fleet },
        { of: 'b', subject: fleet, width: 2 },
      ],
    },
    {
      plates: [
        { of: 'c', subject: { kind: 'host', name: 'press-1' }, by: 'tenant', form: 'bars', first: 3, colour: 4 },
      ],
    },
  ],
}
const shape = (d: Draft) => d.rows.map((r) => r.plates.map((p) => p.of).join('')).join(' ')
const keyOf = (d: Draft, of: string) => d.rows.flatMap((r) => r.plates).find((p) => p.of === of)!.key

describe('a draft', () => {
  it('is the folio that it was made of', () => {
    expect(folioOf(draftOf(folio))).toEqual(folio)
    expect(folioOf({ ...draftOf(folio), about: 'When presses run.' }).about).toBe('When presses run.')
  })
  it('moves plates by one, so that every arrangement can be reached', () => {
    const d = draftOf(folio)
    const go = (from: Draft, of: string, ...way: Parameters<typeof moved>[2][]) =>
      shape(way.reduce((x, to) => moved(x, keyOf(x, of), to), from))
    expect(shape(d)).toBe('ab c')
    expect(go(d, 'b', 'left')).toBe('ba c')
    expect(go(d, 'a', 'left')).toBe('ab c')
    expect(go(d, 'b', 'right')).toBe('ab c')
    expect(go(d, 'b', 'down')).toBe('a b c')
    expect(go(d, 'b', 'up')).toBe('b a c')
    expect(go(d, 'b', 'up', 'up')).toBe('b a c')
    expect(go(d, 'b', 'down', 'down')).toBe('a cb')
    expect(go(d, 'c', 'up')).toBe('abc')
    expect(go(d, 'c', 'up', 'left', 'left')).toBe('cab')
    expect(go(d, 'c', 'down')).toBe('ab c')
    const full = draftOf({
      ...folio,
      rows: [
        { plates: [...'uvwxyz'].map((of) => ({ of, subject: fleet })) },
        { plates: [{ of: 'a', subject: fleet }] },
      ],
    })
    expect(go(full, 'a', 'up')).toBe('a uvwxyz')
    expect(go(full, 'a', 'up', 'down')).toBe('uvwxyz a')
    expect(shape(putIn(full, keyOf(full, 'a'), { row: 0, at: 0 })), 'a full row takes no more').toBe('uvwxyz a')
    expect(shape(putIn(full, keyOf(full, 'z'), { row: 0, at: 0 })), 'but its own').toBe('zuvwxy a')
    expect(shape(copied(full, keyOf(full, 'v')))).toBe('uvwxyz v a')
  })
  it('puts a plate where it is dropped, and leaves no empty row', () => {
    const d = draftOf(folio)
    expect(shape(putIn(d, keyOf(d, 'c'), { row: 0, at: 1 }))).toBe('acb')
    expect(shape(putIn(d, keyOf(d, 'a'), { row: 1, at: 1 }))).toBe('b ca')
    expect(shape(putIn(d, keyOf(d, 'c'), { before: 0 }))).toBe('c ab')
    expect(shape(putIn(d, keyOf(d, 'a'), { before: 2 }))).toBe('b c a')
    expect(shape(putIn(d, -1, { before: 2 }))).toBe('ab c')
  })
  it('adds, copies, changes, removes, and sizes', () => {
    let d = draftOf(folio)
    d = added(d, { of: 'd', subject: fleet })
    d = added(d, { of: 'e', subject: fleet })
    d = added(d, { of: 'f', subject: fleet })
    expect(shape(d)).toBe('ab cde f')
    d = copied(d, keyOf(d, 'c'))
    expect(shape(d)).toBe('ab ccde f')
    expect(folioOf(d).rows[1]!.plates[1]).toEqual(folio.rows[1]!.plates[0])
    d = changed(d, keyOf(d, 'a'), { of: 'g', subject: fleet })
    d = removed(d, keyOf(d, 'f'))
    d = removed(d, keyOf(d, 'b'))
    expect(shape(d)).toBe('g ccde')
    d = heightened(d, 1, 'high')
    d = widened(d, keyOf(d, 'g'), 1)
    expect(folioOf(d).rows[0]!.plates[0]!.width).toBe(2)
    d = widened(widened(d, keyOf(d, 'g'), -1), keyOf(d, 'g'), -1)
    expect(folioOf(d).rows[0]!.plates[0], 'as usual').toEqual({ of: 'g', subject: fleet })
    expect(folioOf(d).rows.map((r) => r.height)).toEqual(['low', 'high'])
    for (let i = 0; i < 9; i++) d = widened(d, keyOf(d, 'g'), 1)
    expect(folioOf(d).rows[0]!.plates[0]!.width).toBe(6)
  })
  it('is undone and done again', () => {
    const first = draftOf(folio)
    let h = begun(first)
    h = done(h, moved(first, keyOf(first, 'a'), 'left'))
    expect(h.past, 'nothing changed').toEqual([])
    h = done(h, removed(h.now, keyOf(h.now, 'a')))
    h = done(h, removed(h.now, keyOf(h.now, 'c')))
    expect(shape(h.now)).toBe('b')
    h = undone(undone(undone(h)))
    expect(shape(h.now)).toBe('ab c')
    h = redone(h)
    expect(shape(h.now)).toBe('b c')
    h = done(h, added(h.now, { of: 'z', subject: fleet }))
    expect(redone(h), 'what was undone is gone once something else is done').toBe(h)
    expect(shape(undone(h).now)).toBe('b c')
  })
})
