import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { cleanup, render, screen, within } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { setChoices, usual } from '../choices/choices'
import { List, type Column } from './List'
import { asCSV, inOrder, matches } from './listing'

interface Vat {
  name: string
  litres: number | null
  grape: string
}

const vats: Vat[] = [
  { name: 'vat 10', litres: 900, grape: 'Riesling' },
  { name: 'vat 2', litres: null, grape: 'Silvaner' },
  { name: 'vat 1', litres: 1200, grape: 'Riesling' },
  { name: 'vat 3', litres: 40, grape: '=Kerner' },
  { name: 'vat 4', litres: 60, grape: 'Kerner, "late"' },
  { name: 'vat 5', litres: 70, grape: 'Bacchus' },
]
const columns: Column<Vat>[] = [
  { id: 'name', head: 'Vat', isHead: true, value: (v) => v.name },
  { id: 'litres', head: 'Holds', isFigure: true, value: (v) => v.litres, cell: (v) => `${v.litres ?? '–'} l` },
  { id: 'grape', head: 'Grape', value: (v) => v.grape, isHidden: true },
  { id: 'drawn', head: 'Trend', value: () => null, isDrawn: true, cell: () => 'a drawing' },
]
const names = () => screen.getAllByRole('rowheader').map((x) => x.textContent)

describe('a list', () => {
  let saved: { name: string; text: Promise<string> }[] = []
  beforeEach(() => {
    saved = []
    let blob: Blob
    vi.stubGlobal('URL', {
      createObjectURL: (b: Blob) => {
        blob = b
        return 'blob:'
      },
      revokeObjectURL: () => {},
    })
    vi.spyOn(HTMLAnchorElement.prototype, 'click').mockImplementation(function (this: HTMLAnchorElement) {
      saved.push({ name: this.download, text: blob.text() })
    })
  })
  afterEach(() => {
    cleanup()
    vi.unstubAllGlobals()
    vi.restoreAllMocks()
  })

  it('is sorted by a column, figures by size with the largest first, and what is not known last', async () => {
    render(<List name="vats" rows={vats} columns={columns} rowKey={(v) => v.name} />)
    expect(names()).toEqual(vats.map((v) => v.name))
    const holds = screen.getByRole('button', { name: 'Holds' })
    await userEvent.click(holds)
    expect(names()).toEqual(['vat 1', 'vat 10', 'vat 5', 'vat 4', 'vat 3', 'vat 2'])
    expect(screen.getByRole('columnheader', { name: /Holds/ })).toHaveProperty('ariaSort', 'descending')
    await userEvent.click(holds)
    expect(names()).toEqual(['vat 3', 'vat 4', 'vat 5', 'vat 10', 'vat 1', 'vat 2'])
    await userEvent.click(screen.getByRole('button', { name: 'Vat' }))
    expect(names()).toEqual(['vat 1', 'vat 2', 'vat 3', 'vat 4', 'vat 5', 'vat 10'])
    expect(screen.queryByRole('button', { name: 'Trend' })).toBeNull()
    expect(screen.queryByRole('columnheader', { name: 'Grape' })).toBeNull()
  })

  it('is searched by words, in what is not shown too, and taken away as it is seen', async () => {
    render(
      <List
        name="vats"
        rows={vats}
        columns={columns}
        rowKey={(v) => v.name}
        below={(v) => v.litres === null && <p>not measured</p>}
        acts={(v) => <button type="button">empty {v.name}</button>}
      />,
    )
    expect(screen.getByText('not measured')).toBeTruthy()
    await userEvent.type(screen.getByRole('searchbox'), 'RIES vat')
    expect(names()).toEqual(['vat 10', 'vat 1'])
    expect(screen.getByRole('status').textContent).toBe('2 of 6')
    expect(screen.queryByText('not measured')).toBeNull()
    await userEvent.click(screen.getByRole('button', { name: 'CSV' }))
    await userEvent.click(screen.getByRole('button', { name: 'JSON' }))
    expect(saved.map((s) => s.name)).toEqual(['vats.csv', 'vats.json'])
    expect(await saved[0]!.text).toBe('name,litres,grape\r\nvat 10,900,Riesling\r\nvat 1,1200,Riesling\r\n')
    expect(JSON.parse(await saved[1]!.text)).toEqual([
      { name: 'vat 10', litres: 900, grape: 'Riesling' },
      { name: 'vat 1', litres: 1200, grape: 'Riesling' },
    ])
    await userEvent.type(screen.getByRole('searchbox'), ' none')
    expect(within(screen.getByRole('table')).getByText(/Nothing in it/)).toBeTruthy()
  })

  it('has the columns that were chosen, in their order, and all of them in files', async () => {
    setChoices({ ...usual, columns: { vats: ['grape', 'gone', 'name'] } })
    render(
      <QueryClientProvider client={new QueryClient()}>
        <List name="vats" keep="vats" rows={vats} columns={columns} rowKey={(v) => v.name} first={2} />
      </QueryClientProvider>,
    )
    setChoices(usual)
    expect(screen.getAllByRole('columnheader').map((x) => x.textContent)).toEqual(['Grape', 'Vat'])
    expect(names()).toEqual(['vat 10', 'vat 2'])
    expect(screen.getByText(/the first 2 of 6/)).toBeTruthy()
    await userEvent.click(screen.getByRole('button', { name: 'CSV' }))
    expect((await saved[0]!.text).split('\r\n')).toHaveLength(8)
    await userEvent.click(screen.getByRole('button', { name: 'columns…' }))
    await userEvent.click(screen.getByRole('checkbox', { name: 'Holds' }))
    expect(screen.getAllByRole('columnheader').map((x) => x.textContent)).toEqual(['Grape', 'Vat', 'Holds'])
  })
  it('writes what a spreadsheet reads as text', () => {
    expect(
      asCSV(
        ['a', 'b'],
        [
          ['=1+1', -3],
          ['x,"y"', null],
        ],
      ),
    ).toBe('a,b\r\n\'=1+1,-3\r\n"x,""y""",\r\n')
    expect(['b10', 'b9', 'a'].sort(inOrder)).toEqual(['a', 'b9', 'b10'])
    expect(matches(['One', 2, null], '2 one')).toBe(true)
    expect(matches(['One'], 'two')).toBe(false)
  })
})
