const formats = new Map<string, Intl.NumberFormat>()

/** A number as it is written for people. Making a format is slow, and a page writes hundreds of figures: they are kept. */
export function written(v: number, how: Intl.NumberFormatOptions): string {
  const key = JSON.stringify(how)
  let format = formats.get(key)
  if (!format) {
    format = new Intl.NumberFormat('en', how)
    formats.set(key, format)
  }
  return format.format(v)
}
