export type FolioSearch = { host?: string; tenant?: string; compose?: true }

/** Keeps of an address whom the page is of, and whether it is being composed. */
export function readFolio(search: Record<string, unknown>): FolioSearch {
  const text = (v: unknown) => (typeof v === 'string' && v !== '' ? v : undefined)
  return {
    host: text(search.host),
    tenant: text(search.tenant),
    compose: search.compose === true || search.compose === 'true' ? true : undefined,
  }
}
