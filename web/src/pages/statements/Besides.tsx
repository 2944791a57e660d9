import type { GrownStatement } from '../../api/client'
import { meanText, title } from '../../figures/units'
import { limited, lasted, quotaFigure, quotaUnit } from '../../figures/quotas'
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
              limited(l.resource),
              l.scope || 'all hosts',
              l.window || 'any moment',
              limitText(l, l.limit),
              limitText(l, l.used),
              l.over_seconds !== null ? lasted(l.over_seconds / 60) : l.overrun ? limitText(l, l.overrun) : '–',
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

/** A limit in the unit that suits it. */
const limitText = (l: GrownStatement['limits'][number], v: number | null): string =>
  quotaFigure(v, quotaUnit(l.resource, l.unit, l.limit))
