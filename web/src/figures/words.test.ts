import { afterEach, expect, test } from 'vitest'
import { setRegister, entry } from './register'
import { meaningOf, setWords } from './words'

afterEach(() => setWords([]))

test('a column is explained by its own word before others of that name, by its head, or by its measure', () => {
  setRegister([{ ...entry('grape'), name: 'grape', title: 'Grapes', meaning: 'Grapes that were pressed.' }])
  const word = (word: string, sort: string, meaning: string, of_command?: string) => ({
    word,
    sort,
    title: word.replaceAll('_', ' '),
    meaning,
    facts: [],
    of_command,
  })
  setWords([
    word('first_user', 'column', 'Who moved most.'),
    word('held', 'column', 'Of one command alone.', 'unused'),
    word('held', 'word', 'What it is entitled to.'),
    word('source', 'column', 'How the figure was obtained.'),
    word('source', 'word', 'A spring.'),
  ])
  expect(meaningOf('first_user')).toBe('Who moved most.')
  expect(meaningOf('none', 'First user')).toBe('Who moved most.')
  expect(meaningOf('held')).toBe('What it is entitled to.')
  expect(meaningOf('source')).toBe('How the figure was obtained.')
  expect(meaningOf('grape_litres_mean')).toBe('The mean over the span. Grapes that were pressed.')
  expect(meaningOf('grape_peak')).toBe('The highest over the span. Grapes that were pressed.')
  expect(meaningOf('must', '')).toBeUndefined()
})
