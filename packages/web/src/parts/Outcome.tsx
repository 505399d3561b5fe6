import type { ErrandOutcome } from '@tide/core/api/errand'
import { Notice } from './Notice.tsx'

/** What has come of something that was asked of a pipeline. */
export function Outcome({ outcome }: { outcome: ErrandOutcome | undefined }) {
  if (!outcome) return null
  if (outcome.state === 'waiting')
    return (
      <Notice level="warning" title="It is asked for.">
        The pipeline gets to it when it goes on.
      </Notice>
    )
  if (outcome.state === 'refused') return <Notice level="refused" title={outcome.outcome} />
  return (
    <p role="status" className="border-l-3 border-water-3 px-3 py-2 text-[13px] font-semibold">
      {outcome.outcome}.
    </p>
  )
}
