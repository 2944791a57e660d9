/** What a column of a list holds; null for what is not known. */
export type Value = string | number | boolean | null | undefined

/** The order of two values that are known: figures by size, texts as people sort them. */
export function inOrder(a: Value, b: Value): number {
  if (typeof a === 'number' && typeof b === 'number') return a - b
  return String(a).localeCompare(String(b), 'en', { numeric: true })
}

/** Whether some values have all words that were asked for, in any of them. */
export function matches(values: Value[], words: string): boolean {
  const text = values
    .filter((v) => v !== null && v !== undefined)
    .join('\n')
    .toLowerCase()
  return words
    .toLowerCase()
    .split(/\s+/)
    .every((w) => text.includes(w))
}

/**
 * Rows as RFC 4180 has them. A text that a spreadsheet would take for a formula gets a quote before it.
 */
export function asCSV(heads: string[], rows: Value[][]): string {
  const field = (v: Value) => {
    if (v === null || v === undefined) return ''
    let text = String(v)
    if (typeof v === 'string' && /^[=+\-@\t\r]/.test(text)) text = `'${text}`
    return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text
  }
  return [heads, ...rows].map((r) => r.map(field).join(',') + '\r\n').join('')
}

/** Gives the reader a file. */
export function save(name: string, type: string, text: string) {
  const url = URL.createObjectURL(new Blob([text], { type }))
  const link = document.createElement('a')
  link.href = url
  link.download = name
  link.click()
  URL.revokeObjectURL(url)
}

/** A list with one of its elements moved by one place. */
export function moved(ids: string[], id: string, by: number): string[] {
  const at = ids.indexOf(id)
  const to = at + by
  if (at < 0 || to < 0 || to >= ids.length) return ids
  const list = ids.filter((x) => x !== id)
  list.splice(to, 0, id)
  return list
}
