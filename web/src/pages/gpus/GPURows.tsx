import { memory } from '../../figures/text'
import { Link } from '@tanstack/react-router'
import type { GPULine, GPUs } from '../../api/client'
import { Meaning } from '../../figures/BalanceBar'
import { Heads } from '../../figures/Heads'
import { shown } from '../../figures/Name'
import { meaningOf } from '../../figures/words'
import { StackBar, type Part } from '../../figures/StackBar'
import { percent } from '../../figures/text'
import { tenantColour } from '../../figures/units'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { useTime } from '../../time/useTime'
import { givenText, stateText } from '../../figures/gpus'
import { Spread } from './Spread'
import { Folding } from '../../figures/Folding'

type Props = { gpus: GPUs; colours: Map<string, number>; ofHost?: boolean }

/** A row a GPU, its partitions below: how it is, whom it is given to, who used it, and what to look at. */
export function GPURows({ gpus, colours, ofHost }: Props) {
  return (
    <Folding className="min-w-240">
      <Heads
        columns={[
          'GPU',
          'State',
          ['Busy', 'w-[15%]'],
          ['Memory', 'w-[13%]'],
          ['Given to and used by', 'w-[30%]'],
          'Look at',
        ]}
      />
      <tbody>
        {gpus.gpus.map((g) => (
          <Row key={`${g.host}/${g.name}`} gpu={g} until={gpus.to} colours={colours} ofHost={ofHost} />
        ))}
      </tbody>
    </Folding>
  )
}

function Row({
  gpu: g,
  until,
  colours,
  ofHost,
}: {
  gpu: GPULine
  until: string
  colours: Map<string, number>
  ofHost?: boolean
}) {
  const { search } = useTime()
  return (
    <tr>
      <th scope="row" style={{ paddingLeft: g.card ? '32px' : undefined }} className="whitespace-nowrap">
        <Link to="/hosts/$host/gpus/$gpu" params={{ host: g.host, gpu: g.number }} search={search}>
          {ofHost ? g.number : `${g.host} ${g.number}`}
        </Link>
        <small className="block text-[12.5px] font-normal text-ink-2">{shown(g.title)}</small>
      </th>
      <td className={g.state === 'lost' ? 'font-semibold text-wine' : ''}>
        {g.why ? <Meaning meaning={`${shown(g.why)}.`}>{stateText(g, until)}</Meaning> : stateText(g, until)}
      </td>
      <td>
        <StackBar
          thin
          label={`GPU ${g.number} of ${g.host}, busy`}
          whole={1}
          parts={busyParts(g, colours)}
          unknown={g.busy === null}
        />
        <div className="mt-1 text-[12.5px] text-ink-2">
          {g.busy === null ? (
            <Meaning meaning={`Not available, because ${shown(g.busy_unavailable ?? 'it is not told')}.`}>–</Meaning>
          ) : (
            percent(g.busy)
          )}
          {g.busy_of_nobody !== null && Math.abs(g.busy_of_nobody) >= 0.001 && (
            <> , {percent(g.busy_of_nobody)} nobody’s</>
          )}
        </div>
      </td>
      <td>
        <StackBar
          thin
          label={`GPU ${g.number} of ${g.host}, memory`}
          whole={g.memory_bytes}
          parts={memoryParts(g, colours)}
          unknown={g.memory_bytes === null || g.memory_used_bytes_mean === null}
        />
        <div className="mt-1 text-[12.5px] text-ink-2">
          {g.memory_bytes === null || g.memory_used_bytes_mean === null ? (
            <Meaning meaning={`Not available, because ${shown(g.memory_unavailable ?? 'it is not told')}.`}>–</Meaning>
          ) : (
            `${memory(g.memory_used_bytes_mean)} of ${memory(g.memory_bytes)}`
          )}
        </div>
      </td>
      <td>
        <Whose gpu={g} />
      </td>
      <td>
        {g.notices.map((n) => (
          <p key={n} className="text-[12.5px] text-wine">
            {shown(n)}
          </p>
        ))}
      </td>
    </tr>
  )
}

/** Who used a GPU, most first, and then who holds it and did not. */
function Whose({ gpu: g }: { gpu: GPULine }) {
  const idle = g.holders.filter((h) => !g.users.some((u) => u.id === h.id))
  if (g.users_unavailable)
    return <Meaning meaning={`Not available, because ${shown(g.users_unavailable)}.`}>not told</Meaning>
  return (
    <ul className="grid gap-1 text-[12.5px]">
      {g.users.map((u) => (
        <li key={u.id} className="flex flex-wrap items-center gap-x-2">
          <WorkloadLink id={u.id} name={u.name} />
          <span>{u.busy === null ? memory(u.memory_bytes_mean) : percent(u.busy)}</span>
          {u.spread && <Spread spread={u.spread} name={u.name} />}
          <span className="text-ink-2">
            {givenText(g, u.id) || 'not given'}, <Meaning meaning={meaningOf(u.source)}>{u.source}</Meaning>
          </span>
        </li>
      ))}
      {idle.map((h) => (
        <li key={h.id}>
          <WorkloadLink id={h.id} name={h.name} />{' '}
          <span className="text-ink-2">
            {h.uses_partitions ? 'uses a partition' : 'uses none of it'}, {givenText(g, h.id)}
          </span>
        </li>
      ))}
      {g.users.length + idle.length === 0 && <li className="text-ink-2">nobody</li>}
    </ul>
  )
}

function busyParts(g: GPULine, colours: Map<string, number>): Part[] {
  return g.users
    .filter((u) => u.busy !== null)
    .map((u) => ({ name: u.name, value: u.busy ?? 0, colour: tenantColour(colours.get(u.tenant) ?? 0, u.tenant) }))
}

function memoryParts(g: GPULine, colours: Map<string, number>): Part[] {
  const parts = g.users.map((u) => ({
    name: u.name,
    value: u.memory_bytes_mean,
    colour: tenantColour(colours.get(u.tenant) ?? 0, u.tenant),
  }))
  const rest = (g.memory_used_bytes_mean ?? 0) - parts.reduce((sum, p) => sum + p.value, 0)
  return rest > 0 ? [...parts, { name: 'its driver or its partitions', value: rest, colour: 'var(--kernel)' }] : parts
}
