import { useState, type FormEvent } from 'react'

/** Which window is shown: the one that runs, the one before, or any by a month or a day in it. */
export function WindowChoice({ window, onChoose }: { window: string; onChoose: (w: string | undefined) => void }) {
  const [text, setText] = useState(window === 'this' || window === 'last' ? '' : window)
  const submit = (e: FormEvent) => {
    e.preventDefault()
    if (text.trim()) onChoose(text.trim())
  }
  const button = (name: string, label: string) => (
    <button
      type="button"
      className="link"
      aria-pressed={window === name}
      onClick={() => onChoose(name === 'this' ? undefined : name)}
    >
      {label}
    </button>
  )
  return (
    <form onSubmit={submit} className="mb-3 flex flex-wrap items-baseline gap-3 print:hidden">
      {button('last', 'the last window')}
      {button('this', 'the one that runs')}
      <label className="flex items-baseline gap-1.5">
        <span className="text-ink-2">or</span>
        <input
          className="w-32 rounded-[3px] border border-rule-2 bg-paper px-2 py-0.5"
          aria-label="A month, or a day in the window"
          placeholder="2026-10"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
      </label>
      <button type="submit" className="button">
        Show
      </button>
    </form>
  )
}
