import type { LaneForeseen, TwoWayForeseen, TwoWayLook } from '@tide/core/api/two-way'
import { laneName, type TwoWayDefinition } from '@tide/core/definition/two-way'
import type { TwoWayNote } from '@tide/core/two-way/note'
import { count, duration, plural } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { SetupNote } from '../../pipelines/setup/SetupNote.tsx'
import { Statements } from '../../pipelines/PlanSentence.tsx'
import { TwoWayRows } from '../TwoWayRows.tsx'
import type { Called } from '../said.ts'

interface TwoWayPlanProps {
  notes: readonly TwoWayNote[]
  foreseen: TwoWayForeseen | undefined
  captures: TwoWayLook['captures']
  called: Called
  definition: TwoWayDefinition
  goTo: (note: Pick<TwoWayNote, 'section' | 'lane'>) => void
}

/** What stands in the way, what is to be known, and what the first pass would do. */
export function TwoWayPlan({ notes, foreseen, captures, called, definition, goTo }: TwoWayPlanProps) {
  const laneOf = ({ lane }: TwoWayNote) => {
    const of = lane === undefined ? undefined : definition.lanes[lane]
    return of && foreseen?.lanes.find(one => one.lane === laneName(of))
  }
  /** Of how many records that take part a value is less; undefined: that is not known. */
  const touchedBy = (note: TwoWayNote) =>
    note.loses === undefined || note.join === undefined
      ? undefined
      : laneOf(note)?.losses[note.join]?.[note.loses]
  const quiet = notes.filter(note => touchedBy(note) === 0)
  const said = (note: TwoWayNote) => {
    const touched = touchedBy(note)
    return (
      <SetupNote
        key={`${note.section} ${note.lane} ${note.join} ${note.message}`}
        note={note}
        deeds={<TextButton onClick={() => goTo(note)}>Show</TextButton>}
      >
        {touched !== undefined && touched > 0 && (
          <p>
            Now {count(touched)} of the {count(laneOf(note)!.takingPart)} that take part.
          </p>
        )}
      </SetupNote>
    )
  }
  return (
    <>
      <div className="space-y-1.5">
        {notes.filter(note => !quiet.includes(note)).map(said)}
        {quiet.length > 0 && (
          <details className="text-[13px]">
            <summary className="cursor-pointer text-ink-2">
              {quiet.length === 1 ? 'One field' : `${quiet.length} fields`} could lose something; no record
              does now
            </summary>
            <div className="mt-1.5 space-y-1.5">{quiet.map(said)}</div>
          </details>
        )}
      </div>
      {foreseen && (
        <>
          <p className="mt-2 text-[17px]">
            Takes part now: <b>{plural(foreseen.records.now, 'record')}</b>
          </p>
          <p className="text-[13px] text-ink-2">
            {foreseen.records.later === null
              ? 'How many there will be is not known: a side does not say when records are made.'
              : `${count(foreseen.records.later)} in thirty days at the present pace.`}{' '}
            Read in {duration(foreseen.seconds)}; nothing was written.
          </p>
          {foreseen.lanes.map((lane, i) => (
            <LaneSaid
              key={lane.lane}
              lane={lane}
              called={called}
              many={definition.lanes.length > 1 ? i : undefined}
            />
          ))}
          <Calls foreseen={foreseen} called={called} />
        </>
      )}
      {(['a', 'b'] as const).map(side => {
        const capture = captures[side]
        return (
          capture && (
            <section key={side} className="mt-3 text-[13px]" aria-label={`Capture at ${called[side]}`}>
              <h3 className="text-[14px]">
                {capture.statements.length === 0
                  ? `Installs nothing more at ${called[side]}`
                  : `Installs a capture at ${called[side]}`}
              </h3>
              <p className="text-ink-2">{capture.note}</p>
              {capture.statements.length > 0 && (
                <Statements
                  label={`See the ${plural(capture.statements.length, 'statement')}`}
                  statements={capture.statements}
                />
              )}
            </section>
          )
        )
      })}
    </>
  )
}

/** Of a database nothing is counted. */
function Calls({ foreseen, called }: { foreseen: TwoWayForeseen; called: Called }) {
  const { a, b } = foreseen.callsADay
  if (!a && !b) return null
  return (
    <>
      <h3 className="mt-3 text-[14px]">Calls a day</h3>
      {(['a', 'b'] as const).map(side => {
        const calls = foreseen.callsADay[side]
        if (!calls) return null
        const { looking, sweeping, limit } = calls
        const share = limit === null ? undefined : Math.round(((looking + sweeping) / limit) * 1000) / 10
        return (
          <p key={side} className="text-[13px]">
            {called[side]}: <b>{count(looking + sweeping)}</b>, {count(looking)} to look for changes and{' '}
            {count(sweeping)} for deletions
            {share === undefined ? '; its limit is not known.' : `; ${share} % of its limit.`}
          </p>
        )
      })}
    </>
  )
}

function LaneSaid({ lane, called, many }: { lane: LaneForeseen; called: Called; many: number | undefined }) {
  const { created, changed, paired, held, calls, reasons } = lane
  return (
    <section className="mt-2 border-t border-line pt-2" aria-label={`First pass of ${lane.lane}`}>
      {many !== undefined && <h3 className="text-[14px]">{lane.lane}</h3>}
      <p className="text-[13px]">
        <b>{count(paired)}</b> on both sides
        {held > 0 && (
          <>
            , <b className="text-buoy">{count(held)} held</b>
          </>
        )}
        .
      </p>
      <table className="my-1 text-[13px]" aria-label={`What is written by the first pass of ${lane.lane}`}>
        <thead>
          <tr className="text-[12px] text-ink-2">
            <td />
            {(['a', 'b'] as const).map(side => (
              <th key={side} scope="col" className="pl-5 text-right font-semibold">
                {called[side]}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {(
            [
              ['made', created],
              ['changed', changed],
            ] as const
          ).map(([what, of]) => (
            <tr key={what}>
              <th scope="row" className="text-left font-normal text-ink-2">
                {what}
              </th>
              {(['a', 'b'] as const).map(side => (
                <td key={side} className="pl-5 text-right text-[17px] font-semibold">
                  {count(of[side])}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <p className="text-[13px] text-ink-2">
        About {plural(calls.a, 'call')} to {called.a} and {count(calls.b)} to {called.b}.
      </p>
      {reasons.length > 0 && (
        <ul className="my-2 space-y-1 text-[13px]" aria-label="Why records are held">
          {reasons.slice(0, 5).map(({ reason, remedy, records }) => (
            <li key={reason} className="border-l-3 border-ochre bg-ochre-paper px-2.5 py-1">
              <b>{plural(records, 'record')}</b>: {reason} <span className="text-ink-2">{remedy}</span>
            </li>
          ))}
        </ul>
      )}
      <TwoWayRows
        rows={lane.rows.filter(({ does }) => does !== 'agree').slice(0, 20)}
        called={called}
        label={`What the first pass of ${lane.lane} would do`}
      />
    </section>
  )
}
