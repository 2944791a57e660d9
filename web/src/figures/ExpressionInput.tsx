import { useId, useState, type InputHTMLAttributes } from 'react'
import { useAllHosts, useRuleAttributes } from '../api/queries'
import { completionsOf, type Attribute } from './completion'

/** A field for an expression of the rule language: while it is typed, the browser offers how it could go on. */
export function ExpressionInput({
  more = [],
  ...input
}: InputHTMLAttributes<HTMLInputElement> & {
  value: string
  /** What else may be asked about here. */
  more?: Attribute[]
}) {
  const id = useId()
  const [isTyped, setTyped] = useState(false)
  const attributes = useRuleAttributes(isTyped).data ?? []
  const hosts = useAllHosts(isTyped).data
  const known = {
    host: hosts?.map((h) => h.name) ?? [],
  }
  return (
    <>
      <input {...input} list={id} autoComplete="off" spellCheck={false} onFocus={() => setTyped(true)} />
      <datalist id={id}>
        {isTyped &&
          completionsOf(input.value, [...attributes, ...more], known).map((c) => <option key={c} value={c} />)}
      </datalist>
    </>
  )
}
