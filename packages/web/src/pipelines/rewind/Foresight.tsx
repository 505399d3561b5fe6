import type { RewindForesight } from '@tide/core/api/rewind'
import { count, moment, plural } from '../../format.ts'

const SHOWN_LANES = 6

interface ForesightProps {
  foresight: readonly RewindForesight[] | undefined
  busy: boolean
}

/** What a rewind would do, in sentences and exact figures. */
export function Foresight({ foresight, busy }: ForesightProps) {
  if (!foresight)
    return busy ? <p className="mt-2 text-[13px] text-ink-2">Looking into the journal …</p> : null
  return (
    <div className="mt-3 space-y-2 border-l-2 border-water-3 pl-3 text-[13px]" aria-live="polite">
      {foresight.map(one => (
        <One key={one.run} one={one} />
      ))}
      {foresight.some(({ way }) => way === 'back') && (
        <p className="text-ink-2">
          Those rows pass through their earlier states until all has been applied again; nothing is doubled.
          Rows that others have put at the target under a unique value of before may stand in the way.
        </p>
      )}
      {foresight.some(({ way }) => way === 'forward') && (
        <p className="text-ink-2">
          A rewind to before them, or a recopy, brings them later; until then the pipeline is not consistent.
        </p>
      )}
    </div>
  )
}

function One({ one }: { one: RewindForesight }) {
  const { way, origin, position, next, transactions, counted, lanes } = one
  const changes = lanes.reduce((sum, lane) => sum + lane.changes, 0)
  const touched = lanes.filter(lane => lane.changes > 0).sort((a, b) => b.changes - a.changes)
  const later = lanes.filter(({ from }) => from !== null)
  const whose = origin === '' ? '' : `${origin}: `
  if (way === 'nowhere') return <p>{whose}It stands there already; nothing would be applied again.</p>
  const what = `${counted ? '' : 'more than '}${plural(changes, 'change')} of ${plural(transactions, 'transaction')}`
  return (
    <div>
      <p>
        {whose}
        <b>{what}</b> {way === 'back' ? 'are applied again' : 'are left out: the target never gets them'},
        from{' '}
        <span className="font-mono text-[12px] break-all">{way === 'back' ? position : one.present}</span>{' '}
        {way === 'back' ? (
          next !== null && <>on (the first was committed at {moment(next)})</>
        ) : (
          <>
            to <span className="font-mono text-[12px] break-all">{position}</span>
          </>
        )}
        .
      </p>
      {touched.length > 0 && (
        <p className="text-ink-2">
          {touched
            .slice(0, SHOWN_LANES)
            .map(({ source, changes }) => `${source} ${count(changes)}`)
            .join(' · ')}
          {touched.length > SHOWN_LANES && ` · ${touched.length - SHOWN_LANES} more tables`}
        </p>
      )}
      {later.map(({ source, from }) => (
        <p key={source} className="text-ink-2">
          {source}: only from <span className="font-mono text-[12px]">{from}</span> on, where its changes
          began to be captured.
        </p>
      ))}
    </div>
  )
}
