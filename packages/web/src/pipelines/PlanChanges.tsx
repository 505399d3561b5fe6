import type { PlanAnswer } from '@tide/core/api/plans'
import type { LaneFate, PlanChange } from '@tide/core/plan/change'
import { printName } from '@tide/core/records/dataset'
import { bytes, duration, plural } from '../format.ts'
import { Sentence, Statements } from './PlanSentence.tsx'

const FATES: { fate: LaneFate; title: (lanes: string) => string; says: string }[] = [
  {
    fate: 'copied again',
    title: lanes => `Copies ${lanes} again`,
    says: 'What is there of them goes; they are copied beside the others, catch up, and join them.',
  },
  {
    fate: 'copied',
    title: lanes => `Adds ${lanes}`,
    says: 'Copied beside the others; then followed with them.',
  },
  {
    fate: 'filled',
    title: lanes => `Fills ${lanes} in place`,
    says: 'Their rows stay, and are written over as the source has them, beside the others.',
  },
  {
    fate: 'altered',
    title: lanes => `Alters ${lanes} in place`,
    says: 'Their rows stay; nothing is copied. Changes wait for a moment.',
  },
  {
    fate: 'goes on',
    title: lanes => `Shapes ${lanes} otherwise from here on`,
    says: 'Rows that are there stay as they are.',
  },
  { fate: 'stays', title: lanes => `Leaves ${lanes} as they are`, says: 'They go on meanwhile.' },
]

interface PlanChangesProps {
  plan: PlanAnswer
  change: PlanChange
  fromName: string
}

/** What becomes of each lane of a pipeline that runs. */
export function PlanChanges({ plan, change, fromName }: PlanChangesProps) {
  const { lanes, statements, sourceStatements, estimateSeconds } = plan
  return (
    <div className="divide-y divide-line">
      {FATES.map(({ fate, title, says }) => {
        const own = lanes.filter((_, i) => change.lanes[i]!.fate === fate)
        if (own.length === 0) return null
        return (
          <Sentence key={fate} title={title(plural(own.length, 'lane'))}>
            {says}
            <details open={fate !== 'stays' && own.length <= 6}>
              <summary className="text-link">See which</summary>
              <ul className="font-mono text-[11px] text-ink">
                {own.map(({ source, target, origin }) => (
                  <li key={`${origin} ${printName(source)}`}>
                    {printName(source)} → {printName(target)}
                    {origin !== undefined && <span className="font-sans text-ink-2"> of {origin}</span>}
                  </li>
                ))}
              </ul>
            </details>
          </Sentence>
        )
      })}
      {change.takenOut.length > 0 && (
        <Sentence title={`Takes ${plural(change.takenOut.length, 'lane')} out`}>
          Followed no more; the tables at the target stay.
        </Sentence>
      )}
      {plan.rows > 0 && (
        <Sentence title={`Copies about ${plural(plan.rows, 'row')}, ${bytes(plan.bytes)}`}>
          {estimateSeconds === null
            ? 'How long is not known before the first copy between the two.'
            : `About ${duration(estimateSeconds)} at what these two did last time.`}
        </Sentence>
      )}
      {statements.length > 0 && (
        <Sentence title={`Runs ${plural(statements.length, 'statement')} at the target`}>
          With the checkpoint, at once.
          <Statements label="See them" statements={statements} />
        </Sentence>
      )}
      {sourceStatements.length > 0 && (
        <Sentence title={`Installs more capture at ${fromName}`}>
          {plan.captureNote}
          <Statements
            label={`See the ${plural(sourceStatements.length, 'statement')}`}
            statements={sourceStatements}
          />
        </Sentence>
      )}
    </div>
  )
}
