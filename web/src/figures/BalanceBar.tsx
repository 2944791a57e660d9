import type { Unit } from './units'
import { Tooltip } from 'radix-ui'
import { figure, whole } from './units'

type Props = {
  label: string // whose, of what: for those who do not see the bar
  unit: Unit
  scale: number // the mean at the bar's right end; the left is zero
  colour: string
  used: number | null
  peak: number | null
  quota: number | null
  soft?: number | null // from here on it is watched
  changed?: boolean // the quota is that of the span's end alone: what is beyond it need not be over
  reason?: string // why used is null
}

/**
 * The balance bar: fill = used, whisker = highest minute, notch = quota, small notch = soft mark, hatched wine = beyond
 * the quota. */
export function BalanceBar({ label, unit, scale, colour, used, peak, quota, soft, changed, reason }: Props) {
  const at = (v: number) => `${Math.min(100, (100 * v) / scale)}%`
  const width = (from: number, to: number) => `${Math.max(0, Math.min(100, (100 * (to - from)) / scale))}%`
  const words =
    used === null
      ? `${label}: not available, because ${reason ?? 'no figure was recorded'}`
      : `${label}: ${figure(used, unit)} ${unit.name} used` +
        (peak !== null ? `, highest minute ${figure(peak, unit)}` : '') +
        (quota !== null ? `, quota ${whole(quota, unit)}` : ', no quota') +
        (typeof soft === 'number' ? `, soft mark ${whole(soft, unit)}` : '')
  const over = !changed && used !== null && quota !== null && used > quota
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>
        <div className={used === null ? 'bal unknown' : 'bal'} role="img" aria-label={words}>
          <div className="track" />
          {used !== null && <div className="used" style={{ width: at(over ? quota : used), background: colour }} />}
          {over && <div className="over" style={{ left: at(quota), width: width(quota, used) }} />}
          {used !== null && peak !== null && peak > used && (
            <div className="peak" style={{ left: at(used), width: width(used, peak) }} />
          )}
          {typeof soft === 'number' && <div className="soft-mark" style={{ left: at(soft) }} />}
          {quota !== null && <div className="quota" style={{ left: at(quota) }} />}
        </div>
      </Tooltip.Trigger>
      <Tip>
        {words}. The bar runs from 0 to {whole(scale, unit)} {unit.name}.
      </Tip>
    </Tooltip.Root>
  )
}

/** What a tooltip shows. */
export function Tip({ children }: { children: React.ReactNode }) {
  return (
    <Tooltip.Portal>
      <Tooltip.Content
        sideOffset={6}
        collisionPadding={8}
        className="z-20 max-w-80 rounded-[3px] border border-rule-2 bg-sheet px-3 py-2 text-[12.5px] text-ink shadow-md"
      >
        {children}
      </Tooltip.Content>
    </Tooltip.Portal>
  )
}

/** A word that explains itself when pointed at or focused. */
export function Meaning({ children, meaning }: { children: React.ReactNode; meaning: React.ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>
        <button type="button" className="cursor-help border-b border-dotted border-rule-2 text-left font-[inherit]">
          {children}
        </button>
      </Tooltip.Trigger>
      <Tip>{meaning}</Tip>
    </Tooltip.Root>
  )
}
