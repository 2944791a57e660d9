import { Link } from '@tanstack/react-router'
import { useTime } from '../time/useTime'
import { shown } from './Name'

/** A workload's name, and the way to everything about it. Underlined, since other words stand beside it. */
export function WorkloadLink({ id, name }: { id: number; name: string }) {
  const { search } = useTime()
  return (
    <Link
      to="/workloads/$id"
      params={{ id: String(id) }}
      search={search}
      className="underline decoration-rule-2 underline-offset-2"
    >
      {shown(name)}
    </Link>
  )
}
