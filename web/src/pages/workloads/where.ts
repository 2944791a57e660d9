/** What of workloads is asked for, as the service's query. */
export type Narrowed = { where?: string; tenant?: string; host?: string }

/** Whether what was typed is an expression of the rule language, and no words. */
export const isExpression = (text: string) => /[=<>()&|!]/.test(text)

const quoted = JSON.stringify

/** The expression that finds a kind and what was typed: each word in a name, an owner or a path, or as an expression. */
export function whereOf(kind: string, text: string): string | undefined {
  const parts: string[] = []
  if (kind) parts.push(`kind == ${quoted(kind)}`)
  const typed = text.trim()
  if (isExpression(typed)) parts.push(`(${typed})`)
  else
    for (const word of typed.split(/\s+/).filter(Boolean))
      parts.push(
        `(name.contains(${quoted(word)}) || owner.contains(${quoted(word)}) || path.contains(${quoted(word)}))`,
      )
  return parts.length > 0 ? parts.join(' && ') : undefined
}

/** The groupings that can be chosen. */
export const groupings: Record<string, string> = {
  '': 'no groups',
  tenant: 'by tenant',
  user: 'by owner',
  host: 'by host',
  kind: 'by kind',
  pod: 'by pod',
  account: 'by account',
}

/** What asks for the workloads of one group. */
export function withinGroup(by: string, name: string, where: string | undefined): Narrowed {
  if (by === 'tenant') return { where, tenant: name }
  if (by === 'host') return { where, host: name }
  const attribute = by === 'user' ? 'owner' : by
  const value = name === '(none)' || name === '(owner not known)' ? '' : name
  const own = `${attribute} == ${quoted(value)}`
  return { where: where ? `${own} && ${where}` : own }
}
