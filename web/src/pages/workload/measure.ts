import { meanText } from '../../figures/units'
import { size } from '../../figures/text'

/** A measure's name for people, and its value with a unit that suits it. Its own name ends in the unit. */
export function measureText(m: { name: string; value: number }): [name: string, text: string] {
  const words = (suffix: string) =>
    m.name
      .slice(0, m.name.length - suffix.length)
      .replaceAll('_', ' ')
      .replace(/^cpu/, 'CPU')
  if (m.name.endsWith('_us'))
    return [words('_us'), `${(m.value / 1e6).toLocaleString('en', { maximumFractionDigits: 2 })} s`]
  if (m.name.endsWith('_bytes'))
    return [words('_bytes'), m.name.startsWith('memory_') ? meanText('memory', m.value) : size(m.value)]
  return [words(''), m.value.toLocaleString('en', { maximumFractionDigits: 0 })]
}
