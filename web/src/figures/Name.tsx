/** A name that anyone may choose, made safe to look at: what is not seen, or turns the writing round, shows as its code. */
export function shown(name: string): string {
  const cut = [...name].length > 120 ? [...name].slice(0, 120).join('') + '…' : name
  return said(cut)
}

/** A sentence with such names in it, made safe to look at in the same way, and never cut. */
export function said(text: string): string {
  return text.replace(/[\p{Cc}\p{Cf}\uFFFD]/gu, (c) => '\\u' + c.codePointAt(0)!.toString(16).padStart(4, '0'))
}
