import type { Caveat, Uncovered } from '../api/client'
import { Caveats } from './Caveats'
import { NotRecorded } from './NotRecorded'

/** What the figures of an answer lack: parts of the span that were not recorded, and what was missed in the rest. */
export function Missed({ by }: { by?: { uncovered?: Uncovered; caveats?: Caveat[] } }) {
  return (
    <>
      <NotRecorded of={by?.uncovered} />
      <Caveats of={by?.caveats} />
    </>
  )
}
