import { Tooltip } from 'radix-ui'
import { Meaning, Tip } from './BalanceBar'
import { meaningOf } from './words'

/** The head of a column, which explains itself. */
export function Head({ name, className }: { name: string; className?: string }) {
  const meaning = meaningOf(name)
  return (
    <th scope="col" className={className}>
      {meaning ? <Meaning meaning={meaning}>{name}</Meaning> : name}
    </th>
  )
}

/** A control at the head of a column, which explains the column too; by are the names that it may be explained by. */
export function Explained({ by, children }: { by: string[]; children: React.ReactElement }) {
  const meaning = meaningOf(...by)
  if (!meaning) return children
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tip>{meaning} Press to sort by it.</Tip>
    </Tooltip.Root>
  )
}

/** The head of a table: a name for each column, with "num" for figures or another class. */
export function Heads({ columns }: { columns: (string | readonly [name: string, className: string])[] }) {
  return (
    <thead>
      <tr>
        {columns.map((c) => {
          const [name, className] = typeof c === 'string' ? [c, undefined] : c
          return <Head key={name} name={name} className={className} />
        })}
      </tr>
    </thead>
  )
}
