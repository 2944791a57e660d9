import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { useState, type FormEvent } from 'react'
import { answer, api } from '../../api/client'
import { List } from '../../figures/List'
import { said, shown } from '../../figures/Name'
import { Waiting } from '../../figures/Trouble'
import { meanText } from '../../figures/units'
import { queryOf } from '../../time/span'
import { useTime } from '../../time/useTime'
import { Field, field } from './Field'
import { SizeFields, sizeQuery, sizeSearch } from './Size'
import { Taken, takenQuery } from './Taken'
import { Unjudged } from './Unjudged'
import type { PlanSearch } from './search'

/** Where a workload would fit best: one that is there, or one that would need so much. */
export function PlaceSheet() {
  const { span, search: time } = useTime()
  const asked = useSearch({ strict: false }) as PlanSearch
  const navigate = useNavigate()
  const [workload, setWorkload] = useState(String(asked.workload ?? ''))
  const [size, setSize] = useState({
    cpus: String(asked.cores ?? ''),
    memory: String(asked.gib ?? ''),
    gpus: String(asked.gpus ?? ''),
  })
  const isAsked = asked.workload !== undefined || asked.cores !== undefined || asked.gib !== undefined
  const query = { ...takenQuery(asked), ...sizeQuery(asked), workload: asked.workload }
  const placed = useQuery({
    queryKey: ['place', query, queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/whatif/place', { params: { query: { ...query, ...queryOf(span) } } })),
    enabled: isAsked,
    retry: false,
  })
  const submit = (e: FormEvent) => {
    e.preventDefault()
    void navigate({
      to: '/plan',
      search: {
        ...time,
        view: 'place',
        percentile: asked.percentile,
        spare: asked.spare,
        workload: workload === '' ? undefined : Number(workload),
        ...sizeSearch(size),
      },
    })
  }
  const x = placed.data
  return (
    <>
      <Taken />
      <section className="sheet mb-4.5" aria-label="What is placed">
        <form onSubmit={submit} className="flex flex-wrap items-end gap-x-4 gap-y-2 px-3.5 py-3">
          <Field name="workload, by its number; none for a new one">
            <input
              className={`${field} w-32`}
              type="number"
              min={1}
              value={workload}
              onChange={(e) => setWorkload(e.target.value)}
            />
          </Field>
          <SizeFields value={size} set={setSize} of="it needs" />
          <button type="submit" className="button button-vine">
            Find a place
          </button>
        </form>
      </section>
      {isAsked && !x && <Waiting error={placed.error} what="Its place" />}
      {x && (
        <section className="sheet overflow-x-auto" aria-label="Where it would fit">
          <p className="px-3.5 pt-2.5 pb-2 font-serif text-[15px]" role="status">
            {said(x.sentence)}
          </p>
          <Unjudged notes={x.notes} />
          <List
            keep="places"
            name="places"
            rows={x.hosts}
            rowKey={(f) => f.host}
            columns={[
              {
                id: 'host',
                head: 'Host',
                isHead: true,
                value: (f) => f.host,
                cell: (f) => (
                  <>
                    {shown(f.host)} {f.is_there && <span className="text-ink-2">where it is</span>}
                  </>
                ),
              },
              {
                id: 'fits',
                head: 'Fits',
                value: (f) => (f.fits ? 1 : 0),
                cell: (f) => (f.fits ? 'yes' : <span className="text-wine">no</span>),
              },
              {
                id: 'cpu_part',
                head: 'Of its CPUs',
                isFigure: true,
                value: (f) => f.cpu_part,
                cell: (f) => `${(100 * f.cpu_part).toFixed(0)} %`,
              },
              {
                id: 'memory_part',
                head: 'Of its memory',
                isFigure: true,
                value: (f) => f.memory_part,
                cell: (f) => `${(100 * f.memory_part).toFixed(0)} %`,
              },
              {
                id: 'cpu_cores',
                head: 'CPU',
                isFigure: true,
                value: (f) => f.cpu_cores,
                cell: (f) => meanText('cpu', f.cpu_cores),
              },
              { id: 'gpus_free', head: 'GPUs free', isFigure: true, value: (f) => f.gpus_free },
              {
                id: 'disk_part',
                head: 'Of its drives',
                isFigure: true,
                value: (f) => f.disk_part,
                cell: (f) => (f.disk_part === null ? '–' : `${(100 * f.disk_part).toFixed(0)} %`),
              },
              {
                id: 'space_free_bytes',
                head: 'Space free',
                isFigure: true,
                value: (f) => f.space_free_bytes,
                cell: (f) => (f.space_free_bytes === null ? '–' : meanText('memory', f.space_free_bytes)),
              },
              { id: 'sentence', head: 'Why', value: (f) => f.sentence, cell: (f) => said(f.sentence) },
            ]}
          />
        </section>
      )}
    </>
  )
}
