import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { useState, type FormEvent } from 'react'
import { answer, api } from '../../api/client'
import { Heads } from '../../figures/Heads'
import { said } from '../../figures/Name'
import { Waiting } from '../../figures/Trouble'
import { meanText } from '../../figures/units'
import { queryOf } from '../../time/span'
import { useTime } from '../../time/useTime'
import { Field, field } from './Field'
import { Moves } from './Moves'
import { Unjudged } from './Unjudged'
import { SizeFields, sizeQuery, sizeSearch } from './Size'
import { takenQuery } from './Taken'
import type { PlanSearch } from './search'

/** Whether all would fit with hosts taken away or added. */
export function HostsIf({ hosts }: { hosts: string[] }) {
  const { span, search: time } = useTime()
  const asked = useSearch({ strict: false }) as PlanSearch
  const navigate = useNavigate()
  const [without, setWithout] = useState(asked.without?.split(',') ?? [])
  const [added, setAdded] = useState(String(asked.add ?? 0))
  const [size, setSize] = useState({
    cpus: String(asked.cores ?? ''),
    memory: String(asked.gib ?? ''),
    gpus: String(asked.gpus ?? ''),
  })
  const isAsked = asked.without !== undefined || asked.cores !== undefined
  const query = { ...takenQuery(asked), ...sizeQuery(asked), without: asked.without?.split(','), add: asked.add }
  const changed = useQuery({
    queryKey: ['hosts-if', query, queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/whatif/hosts', { params: { query: { ...query, ...queryOf(span) } } })),
    enabled: isAsked,
    retry: false,
  })
  const submit = (e: FormEvent) => {
    e.preventDefault()
    void navigate({
      to: '/plan',
      search: {
        ...time,
        view: 'hosts',
        percentile: asked.percentile,
        spare: asked.spare,
        without: without.length > 0 ? without.join(',') : undefined,
        add: Number(added) || undefined,
        ...sizeSearch(size),
      },
    })
  }
  const x = changed.data
  return (
    <section className="sheet mb-4.5 overflow-x-auto" aria-label="With hosts taken away or added">
      <form onSubmit={submit} className="flex flex-wrap items-end gap-x-4 gap-y-2 px-3.5 py-3">
        <fieldset className="grid gap-0.5">
          <legend className="text-[12.5px] text-ink-2">without</legend>
          <span className="flex flex-wrap gap-x-3 gap-y-1">
            {hosts.map((h) => (
              <label key={h} className="inline-flex items-baseline gap-1">
                <input
                  type="checkbox"
                  checked={without.includes(h)}
                  onChange={(e) => setWithout(e.target.checked ? [...without, h] : without.filter((w) => w !== h))}
                />
                {h}
              </label>
            ))}
          </span>
        </fieldset>
        <Field name="with so many more">
          <input
            className={`${field} w-20`}
            type="number"
            min={0}
            max={64}
            value={added}
            onChange={(e) => setAdded(e.target.value)}
          />
        </Field>
        <SizeFields value={size} set={setSize} of="of each" required={Number(added) > 0} />
        <button type="submit" className="button button-vine" disabled={without.length === 0 && size.cpus === ''}>
          Try it
        </button>
      </form>
      {isAsked && !x && <Waiting error={changed.error} what="What would be" />}
      {x && (
        <>
          <p className="px-3.5 pb-2 font-serif text-[15px]" role="status">
            {said(x.sentence)}
          </p>
          <Unjudged notes={x.notes} />
          <table>
            <Heads
              columns={[
                'When',
                ['Hosts', 'num'],
                ['CPUs', 'num'],
                ['Needed', 'num'],
                ['Memory', 'num'],
                ['Needed', 'num'],
                ['GPUs', 'num'],
              ]}
            />
            <tbody>
              {(
                [
                  ['now', x.before],
                  ['then', x.after],
                ] as const
              ).map(([name, u]) => (
                <tr key={name}>
                  <th scope="row">{name}</th>
                  <td className="num">{u.hosts}</td>
                  <td className="num">{u.cpus}</td>
                  <td className="num">{(100 * u.cpu_part).toFixed(0)} %</td>
                  <td className="num">{meanText('memory', u.memory_bytes)}</td>
                  <td className="num">{(100 * u.memory_part).toFixed(0)} %</td>
                  <td className="num">{u.gpus}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <Moves name="hosts-if" moves={x.moves} />
        </>
      )}
    </section>
  )
}
