import type { Measure, Word } from '../api/client'
import { entry } from './register'

let meanings = new Map<string, string>()

/** Takes over what words mean. Heads of tables explain themselves once the console has it. */
export function setWords(words: Word[]) {
  meanings = new Map()
  // What is a column's own comes last, and so before what else has the same name.
  for (const w of words.filter((w) => w.sort !== 'column')) add(w)
  for (const w of words.filter((w) => w.sort === 'column' && !w.of_command)) add(w)
}

function add(w: Word) {
  meanings.set(plain(w.title), w.meaning)
  meanings.set(plain(w.word), w.meaning)
}

/** What a column means, by its name in exports, such as cpu_cores_mean, or by its head; undefined where nothing tells. */
export function meaningOf(...names: string[]): string | undefined {
  for (const name of names) {
    const own = meanings.get(plain(name))
    if (own) return own
    const ended = /^(.*)_(mean|peak)$/.exec(name)
    const measure = ended && of(ended[1]!)
    if (measure) return `The ${ended[2] === 'peak' ? 'highest' : 'mean'} over the span. ${measure.meaning}`
  }
  return undefined
}

/** The measure whose figures a field holds: its name is that of the measure, with a unit or without. */
function of(field: string): Measure | undefined {
  for (let name = field; name !== ''; name = name.replace(/_?[^_]*$/, '')) {
    const m = entry(name)
    if (m.meaning !== '') return m
  }
  return undefined
}

const plain = (name: string) => name.replaceAll('_', ' ').toLowerCase()
