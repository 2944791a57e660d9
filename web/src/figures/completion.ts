/** Something that an expression may ask about. */
export type Attribute = { name: string; type: string; values?: string[] | null }

/** How many completions are offered at once. */
const most = 12

/**
 * How an expression of the rule language could go on, as whole expressions: the names of what may be asked about, what
 * can be done with one of them, and the values that are known of it.
 */
export function completionsOf(text: string, attributes: Attribute[], values: Record<string, string[]>): string[] {
  const of = (name: string) => attributes.find((a) => a.name === name)
  const within = (name: string) => [...(of(name)?.values ?? []), ...(values[name] ?? [])]
  const starting = (all: string[], begun: string) =>
    all.filter((v) => v.toLowerCase().startsWith(begun.toLowerCase()) && v !== begun)
  const go = (end: number, ways: string[]) => ways.slice(0, most).map((w) => text.slice(0, text.length - end) + w)

  const valued = /\b([a-z_]+)\s*(?:==|!=)\s*(?:(['"])([^'"]*))?$/.exec(text)
  if (valued && of(valued[1]!)) {
    const [, name, quote, begun] = valued
    const mark = quote ?? "'"
    const length = quote ? begun!.length + 1 : 0
    return go(
      length,
      starting(within(name!), begun ?? '').map((v) => `${mark}${v}${mark}`),
    )
  }
  const among = /(['"])([^'"]*)\1\s+in\s+([a-z_]*)$/.exec(text)
  if (among) {
    const lists = attributes.filter((a) => a.type === 'list').map((a) => a.name)
    return go(among[3]!.length, starting(lists, among[3]!))
  }
  const named = /(?:^|&&|\|\||[(!])\s*([a-z_]*)$/.exec(text)
  if (named) {
    const names = attributes.filter((a) => a.type !== 'list').map((a) => a.name)
    return go(named[1]!.length, starting(names, named[1]!))
  }
  const asked = /(?:^|&&|\|\||[(!])\s*([a-z_]+)\s+$/.exec(text)
  const attribute = asked && of(asked[1]!)
  if (!attribute) return []
  return go(0, attribute.type === 'number' ? ['== ', '>= ', '<= '] : attribute.type === 'text' ? ["== '", "!= '"] : [])
}
