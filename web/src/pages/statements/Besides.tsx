import type { GrownStatement } from '../../api/client'
import { number } from '../../figures/text'
import { meanText, title } from '../../figures/units'
import { resources } from '../../figures/register'
import { Table } from './Table'
import { decimal, unitWords } from './words'

/** What a statement tells beside its amounts: what was held and not used, quotas, and whose use changed most. */
export function Besides({ s }: { s: GrownStatement }) {
  const changed = s.growth.filter((g) => Number(g.before) !== 0).flatMap((g) => g.whose.map((w) => ({ ...g, ...w })))
  return (
    <>
      {s.held.length > 0 && (
        <>
          <h2 className="mt-5 mb-1">Held and not used</h2>
          <Table
            name="Held and not used"
            heads={['Resource', 'Held, mean', 'Used, mean', 'Unused, mean']}
            figures={[1, 2, 3]}
            rows={s.held.map((h) => [
              title(h.resource),
              h.held_mean === null ? '–' : meanText(h.resource, h.held_mean),
              meanText(h.resource, h.used_mean),
              h.unused_mean === null ? '–' : meanText(h.resource, h.unused_mean),
            ])}
          />
        </>
      )}
      {s.limits.length > 0 && (
        <>
          <h2 className="mt-5 mb-1">Quotas</h2>
          <Table
            name="Quotas"
            heads={['Resource', 'On', 'Window', 'Limit', 'Against it', 'Beyond it']}
            figures={[3, 4, 5]}
            rows={s.limits.map((l) => [
              resources().includes(l.resource) ? title(l.resource) : l.resource.replaceAll('_', ' '),
              l.scope || 'all hosts',
              l.window || 'any moment',
              limitText(l, l.limit),
              limitText(l, l.used),
              l.over_seconds !== null
                ? `${number(l.over_seconds / 60)} min`
                : l.overrun
                  ? limitText(l, l.overrun)
                  : '–',
            ])}
          />
        </>
      )}
      {changed.length > 0 && (
        <>
          <h2 className="mt-5 mb-1">Whose use changed most since the window before</h2>
          <Table
            name="Whose use changed most"
            heads={['Resource', 'More', 'Unit', 'Owner', 'Kind', 'Host']}
            figures={[1]}
            rows={changed.map((c) => [
              title(c.resource),
              decimal(c.more),
              unitWords(c.unit),
              c.owner || '–',
              c.kind,
              c.host,
            ])}
          />
        </>
      )}
    </>
  )
}

/** A limit in its own unit: of a ceiling as a mean, of an allowance as what may be spent. */
function limitText(l: GrownStatement['limits'][number], v: number | null): string {
  if (v === null) return '–'
  if (l.window !== '') return `${number(v)} ${unitWords(l.unit)}`
  return resources().includes(l.resource) ? meanText(l.resource, v) : number(v)
}
