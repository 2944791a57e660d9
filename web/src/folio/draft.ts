import type { Folio, Plate } from '../api/client'

/** A folio while it is composed: its plates have keys, so that they are told apart while they move. */
export type Draft = { title: string; about: string; rows: DraftRow[] }
export type DraftRow = { key: number; height: '' | 'low' | 'high'; plates: DraftPlate[] }
export type DraftPlate = Plate & { key: number }

/** How many plates a row has at most. */
export const mostInRow = 6

let lastKey = 0

const keyed = (p: Plate): DraftPlate => ({ ...p, key: ++lastKey })

const newRow = (p: DraftPlate, height: DraftRow['height'] = ''): DraftRow => ({ key: ++lastKey, height, plates: [p] })

export function draftOf(f: Folio): Draft {
  return {
    title: f.title,
    about: f.about ?? '',
    rows: f.rows.map((r) => ({ key: ++lastKey, height: r.height ?? '', plates: r.plates.map(keyed) })),
  }
}

/** The folio as it is kept: what is as usual is left out. */
export function folioOf(d: Draft): Folio {
  return {
    format: 1,
    title: d.title,
    ...(d.about && { about: d.about }),
    rows: d.rows.map((r) => ({
      ...(r.height && { height: r.height }),
      plates: r.plates.map(plateOf),
    })),
  }
}

/** A plate without its key, and without what is as usual. */
export function plateOf(p: Plate | DraftPlate): Plate {
  const { of, subject, title, by, first, form, step, width, colour } = p
  const { kind, name } = subject
  return {
    of,
    subject: { kind, ...(name && { name }) },
    ...(title && { title }),
    ...(by && { by }),
    ...(first && { first }),
    ...(form && { form }),
    ...(step && { step }),
    ...(width && width > 1 && { width }),
    ...(colour && { colour }),
  }
}

/** Where a plate stands. */
export function placeOf(d: Draft, key: number): { row: number; at: number } | undefined {
  for (let row = 0; row < d.rows.length; row++) {
    const at = d.rows[row]!.plates.findIndex((p) => p.key === key)
    if (at >= 0) return { row, at }
  }
  return undefined
}

/** Adds a plate: to the last row while it has few, else in a row of its own. */
export function added(d: Draft, plate: Plate): Draft {
  const p = keyed(plate)
  const last = d.rows.at(-1)
  if (last && last.plates.length < 3)
    return { ...d, rows: [...d.rows.slice(0, -1), { ...last, plates: [...last.plates, p] }] }
  return { ...d, rows: [...d.rows, newRow(p)] }
}

/** Puts another plate in the place of one. */
export function changed(d: Draft, key: number, plate: Plate): Draft {
  return eachPlate(d, (p) => (p.key === key ? { ...plate, key } : p))
}

/** Puts a copy of a plate behind it; where its row is full, in a row below. */
export function copied(d: Draft, key: number): Draft {
  const place = placeOf(d, key)
  if (!place) return d
  const { row, at } = place
  const p = keyed(d.rows[row]!.plates[at]!)
  if (d.rows[row]!.plates.length >= mostInRow) return { ...d, rows: d.rows.toSpliced(row + 1, 0, newRow(p)) }
  return {
    ...d,
    rows: d.rows.map((r, i) => (i === row ? { ...r, plates: r.plates.toSpliced(at + 1, 0, p) } : r)),
  }
}

/** Takes a plate away, and its row where it was alone. */
export function removed(d: Draft, key: number): Draft {
  return {
    ...d,
    rows: d.rows
      .map((r) => ({ ...r, plates: r.plates.filter((p) => p.key !== key) }))
      .filter((r) => r.plates.length > 0),
  }
}

export type Direction = 'left' | 'right' | 'up' | 'down'

/**
 * Moves a plate by one. Beside others it goes up or down into a row of its own; alone in its row it joins the next one,
 * so that every arrangement can be reached.
 */
export function moved(d: Draft, key: number, to: Direction): Draft {
  const place = placeOf(d, key)
  if (!place) return d
  const { row, at } = place
  const plates = d.rows[row]!.plates
  if (to === 'left' || to === 'right') {
    const next = at + (to === 'left' ? -1 : 1)
    if (next < 0 || next >= plates.length) return d
    return putIn(d, key, { row, at: next })
  }
  if (plates.length > 1) return putIn(d, key, { before: to === 'up' ? row : row + 1 })
  const next = row + (to === 'up' ? -1 : 1)
  if (next < 0 || next >= d.rows.length) return d
  // Into a row that is full nothing fits: the plate goes past it.
  if (d.rows[next]!.plates.length >= mostInRow) return putIn(d, key, { before: to === 'up' ? next : next + 1 })
  return putIn(d, key, { row: next, at: d.rows[next]!.plates.length })
}

/** Where a plate is put: within a row, so that it stands there in the end; or in a row of its own before another. */
export type Target = { row: number; at: number } | { before: number }

/** Puts a plate somewhere else. Rows are counted as they are before. A row that is full takes no more. */
export function putIn(d: Draft, key: number, target: Target): Draft {
  const place = placeOf(d, key)
  if (!place) return d
  const p = d.rows[place.row]!.plates[place.at]!
  const rows = d.rows.map((r, i) => (i === place.row ? { ...r, plates: r.plates.filter((x) => x !== p) } : r))
  if ('before' in target) rows.splice(target.before, 0, newRow(p, d.rows[place.row]!.height))
  else {
    const r = rows[target.row]
    if (!r || r.plates.length >= mostInRow) return d
    rows[target.row] = { ...r, plates: r.plates.toSpliced(target.at, 0, p) }
  }
  return { ...d, rows: rows.filter((r) => r.plates.length > 0) }
}

/** Makes a plate wider or narrower against the others of its row. */
export function widened(d: Draft, key: number, by: number): Draft {
  return eachPlate(d, (p) =>
    p.key === key ? { ...p, width: Math.min(mostInRow, Math.max(1, (p.width || 1) + by)) } : p,
  )
}

/** Gives a row another height. */
export function heightened(d: Draft, row: number, height: DraftRow['height']): Draft {
  return { ...d, rows: d.rows.map((r, i) => (i === row ? { ...r, height } : r)) }
}

function eachPlate(d: Draft, change: (p: DraftPlate) => DraftPlate): Draft {
  return { ...d, rows: d.rows.map((r) => ({ ...r, plates: r.plates.map(change) })) }
}

/** What was done to a draft, so that it can be undone and done again. */
export type History = { past: Draft[]; now: Draft; future: Draft[] }

export const begun = (now: Draft): History => ({ past: [], now, future: [] })

const mostUndone = 100

export function done(h: History, now: Draft): History {
  if (JSON.stringify(folioOf(now)) === JSON.stringify(folioOf(h.now))) return h
  return { past: [...h.past, h.now].slice(-mostUndone), now, future: [] }
}

export function undone(h: History): History {
  const before = h.past.at(-1)
  return before ? { past: h.past.slice(0, -1), now: before, future: [h.now, ...h.future] } : h
}

export function redone(h: History): History {
  const [next, ...future] = h.future
  return next ? { past: [...h.past, h.now], now: next, future } : h
}
