import type { Caveat, Uncovered } from '../api/client'
import { useTime } from '../time/useTime'
import { Caveats, sentenceOf } from './Caveats'
import { Meaning } from './BalanceBar'
import { NotRecorded, notRecorded } from './NotRecorded'

type Lacking = { uncovered?: Uncovered; caveats?: Caveat[] }

const nothing = 'No host was silent, and nothing was missed.'

/**
 * What the figures of an answer lack: parts of the span that were not recorded, and what was missed in the rest. A page
 * that follows keeps a line for it, so that nothing on it moves when something begins to be missed, or is no more.
 */
export function Missed({ by, isInSheet }: { by?: Lacking; isInSheet?: boolean }) {
  const { span } = useTime()
  const isFollowing = span.live && span.pace !== undefined
  return (
    <div className={isInSheet ? 'px-3.5 *:mt-2 *:mb-0 empty:hidden' : 'empty:hidden'}>
      {isFollowing ? <MissedInOneLine by={by} whole={isInSheet ? '' : nothing} /> : <AllMissed by={by} />}
    </div>
  )
}

export function AllMissed({ by }: { by?: Lacking }) {
  return (
    <>
      <NotRecorded of={by?.uncovered} />
      <Caveats of={by?.caveats} />
    </>
  )
}

function MissedInOneLine({ by, whole }: { by?: Lacking; whole: string }) {
  const all = [...(by?.uncovered ? [notRecorded(by.uncovered)] : []), ...(by?.caveats ?? []).map(sentenceOf)]
  return (
    <p className="mb-3 h-6 font-serif text-[15px] text-ink-2 [&>button]:max-w-full [&>button]:truncate" role="status">
      {all.length > 0 ? <Meaning meaning={<AllMissed by={by} />}>{all.join(' ')}</Meaning> : by && whole}
    </p>
  )
}
