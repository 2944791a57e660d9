import { amountText, title } from '../../figures/units'

/** A measure's name for people, and its value with a unit that suits it. */
export function measureText(m: { name: string; value: number }): [name: string, text: string] {
  return [title(m.name), amountText(m.name, m.value)]
}
