import { usePins } from '../../api/queries'
import { PinList } from '../../figures/PinList'
import { useTime } from '../../time/useTime'

/** The CPUs that are declared for a tenant, on all hosts, and where its own workloads ran on others'. */
export function TenantPins({ tenant }: { tenant: string }) {
  const { span } = useTime()
  const pins = usePins(span)
  const own = pins.data?.filter((p) => p.holder_kind === 'tenant' && p.holder === tenant) ?? []
  const others =
    pins.data?.filter(
      (p) => p.holder !== tenant && p.verdicts.some((v) => v.culprits.some((c) => c.tenant === tenant)),
    ) ?? []
  if (own.length + others.length === 0) return null
  return (
    <section className="sheet mb-4.5 overflow-x-auto" aria-labelledby="tenant-pins-title">
      <h2 id="tenant-pins-title" className="border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        Declared CPUs
      </h2>
      {own.length > 0 && <PinList pins={own} withHost />}
      {others.length > 0 && (
        <>
          <h3 className="border-t border-rule-2 px-3.5 pt-2.5 pb-1">Others’ CPUs that it ran on, or beside</h3>
          <PinList pins={others} withHost />
        </>
      )}
    </section>
  )
}
