/** The head of a table: a name for each column, with "num" for figures or another class. */
export function Heads({ columns }: { columns: (string | readonly [name: string, className: string])[] }) {
  return (
    <thead>
      <tr>
        {columns.map((c) => {
          const [name, className] = typeof c === 'string' ? [c, undefined] : c
          return (
            <th key={name} scope="col" className={className}>
              {name}
            </th>
          )
        })}
      </tr>
    </thead>
  )
}
