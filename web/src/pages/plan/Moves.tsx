import type { components } from '../../api/schema.gen'
import { List } from '../../figures/List'
import { shown } from '../../figures/Name'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { meanText } from '../../figures/units'

/** Which workloads would go where. */
export function Moves({ name, moves }: { name: string; moves: components['schemas']['Move'][] }) {
  if (moves.length === 0) return null
  return (
    <List
      keep="emptying"
      name={name}
      rows={moves}
      rowKey={(m) => String(m.id)}
      columns={[
        {
          id: 'workload',
          head: 'Workload',
          isHead: true,
          value: (m) => m.name,
          cell: (m) => <WorkloadLink id={m.id} name={m.name} />,
        },
        { id: 'tenant', head: 'Tenant', value: (m) => m.tenant, cell: (m) => shown(m.tenant) },
        {
          id: 'cpu_cores',
          head: 'CPU',
          isFigure: true,
          value: (m) => m.cpu_cores,
          cell: (m) => meanText('cpu', m.cpu_cores),
        },
        {
          id: 'memory_bytes',
          head: 'Memory',
          isFigure: true,
          value: (m) => m.memory_bytes,
          cell: (m) => meanText('memory', m.memory_bytes),
        },
        { id: 'gpus', head: 'GPUs', isFigure: true, value: (m) => m.gpus },
        {
          id: 'disk_bytes_per_second',
          head: 'Drives',
          isFigure: true,
          value: (m) => m.disk_bytes_per_second,
          cell: (m) => meanText('disk', m.disk_bytes_per_second),
        },
        {
          id: 'space_bytes',
          head: 'Files',
          isFigure: true,
          value: (m) => m.space_bytes,
          cell: (m) => (m.space_bytes === 0 ? '–' : meanText('memory', m.space_bytes)),
        },
        { id: 'to', head: 'Would go to', value: (m) => m.to },
      ]}
    />
  )
}
