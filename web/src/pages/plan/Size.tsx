import { Field, field } from './Field'

/** CPUs, memory in GiB and GPUs, as they are typed. */
export type SizeDraft = { cpus: string; memory: string; gpus: string }

const gib = 2 ** 30

/** How much something has, or needs. */
export function SizeFields({
  value,
  set,
  of,
  required,
}: {
  value: SizeDraft
  set: (v: SizeDraft) => void
  of: string
  required?: boolean
}) {
  const input = (name: keyof SizeDraft, words: string, pattern: string) => (
    <Field name={words}>
      <input
        className={`${field} w-24`}
        inputMode="decimal"
        pattern={pattern}
        required={required && name !== 'gpus'}
        value={value[name]}
        onChange={(e) => set({ ...value, [name]: e.target.value })}
      />
    </Field>
  )
  return (
    <>
      {input('cpus', `cores ${of}`, '[0-9]+(\\.[0-9]+)?')}
      {input('memory', 'memory, GiB', '[0-9]+(\\.[0-9]+)?')}
      {input('gpus', 'GPUs', '[0-9]+')}
    </>
  )
}

/** The same as an address holds it. */
export function sizeSearch(d: SizeDraft) {
  const n = (text: string) => (text === '' ? undefined : Number(text))
  return { cores: n(d.cpus), gib: n(d.memory), gpus: n(d.gpus) }
}

/** The same as the service is asked for. */
export function sizeQuery(s: { cores?: number; gib?: number; gpus?: number }) {
  return { cpus: s.cores, memory_bytes: s.gib === undefined ? undefined : s.gib * gib, gpus: s.gpus }
}
