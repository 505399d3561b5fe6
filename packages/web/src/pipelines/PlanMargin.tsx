import type { PlanAnswer } from '@tide/core/api/plans'
import { takenFrom } from '@tide/core/plan/lane'
import type { PlanNote } from '@tide/core/plan/note'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import { Fragment, type ReactNode } from 'react'
import { bytes, count, duration, plural } from '../format.ts'
import { TextButton } from '../parts/Button.tsx'
import { PasteBlock } from '../parts/Copyable.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'

interface PlanMarginProps {
  plan: PlanAnswer | undefined
  error: unknown
  fromName: string
  toName: string
  leaveOut?: (table: DatasetName) => void
  goTo?: (section: PlanNote['section'], table?: DatasetName) => void
}

/** Everything a start would do, in plain sentences and exact figures, warnings in order of harm. */
export function PlanMargin({ plan, error, fromName, toName, leaveOut, goTo }: PlanMarginProps) {
  if (error) return <ErrorNotice error={error} />
  if (!plan) return <p className="text-[13px] text-ink-2">Reading both catalogues …</p>
  const { notes, lanes, steps, statements, sourceStatements } = plan
  const replaced = steps.filter(step => step.step === 'replace table').length
  const created = steps.filter(step => step.step === 'create table').length
  const renamed = lanes.filter(({ source, target }) => source.name !== target.name).length
  const renamedColumns = lanes.reduce(
    (sum, lane) => sum + lane.writes.filter(column => takenFrom(column) !== column.name).length,
    0,
  )
  const columns = lanes.reduce((sum, lane) => sum + lane.writes.length, 0)
  const schema = steps.find(step => step.step === 'create schema')
  return (
    <div className="space-y-2.5">
      {notes.map(note => (
        <Note key={note.message} note={note} leaveOut={leaveOut} goTo={goTo} />
      ))}
      {lanes.length > 0 && (
        <div className="divide-y divide-line">
          <Sentence
            title={`${created > 0 ? `Creates ${plural(created, 'table')}` : 'Creates no table'}${replaced > 0 ? `, replaces ${replaced}` : ''}${schema ? ' and a schema' : ''}`}
          >
            {plural(columns, 'column')} in {lanes[0]!.target.namespace} of {toName}.{' '}
            {replaced === 0 ? 'Nothing that exists is changed.' : 'Their present rows are deleted.'}
            <Statements label={`See the ${plural(statements.length, 'statement')}`} statements={statements} />
          </Sentence>
          <Sentence
            title={
              renamed + renamedColumns === 0
                ? 'Renames nothing'
                : `Renames ${count(renamed + renamedColumns)} of ${count(lanes.length + columns)} names`
            }
          >
            {renamed + renamedColumns === 0
              ? 'Every name is taken as it is.'
              : 'The target folds the case of letters; no two names meet.'}
            <details>
              <summary className="text-link">See tables, columns and types</summary>
              <LaneTypes plan={plan} />
            </details>
          </Sentence>
          <Sentence
            title={`Copies ${lanes.every(lane => lane.rowsExact) ? '' : 'about '}${plural(plan.rows, 'row')}, ${bytes(plan.bytes)}`}
          >
            {plan.estimateSeconds === null
              ? 'How long is not known before the first copy between the two'
              : `About ${duration(plan.estimateSeconds)} at what these two did last time`}
            ; then follows.
          </Sentence>
          <Sentence
            title={
              sourceStatements.length === 0
                ? `Installs nothing more at ${fromName}`
                : `Installs a capture at ${fromName}`
            }
          >
            {plan.captureNote}
            {sourceStatements.length > 0 && (
              <Statements
                label={`See the ${plural(sourceStatements.length, 'statement')}`}
                statements={sourceStatements}
              />
            )}
          </Sentence>
        </div>
      )}
    </div>
  )
}

const LOOKS: Record<PlanNote['level'], string> = {
  refused: 'border-buoy-mark bg-buoy-paper',
  undecided: 'border-ink-3 bg-paper-3',
  loss: 'border-ochre bg-ochre-paper',
  warning: 'border-ochre bg-ochre-paper',
}

function Note({ note, leaveOut, goTo }: { note: PlanNote } & Pick<PlanMarginProps, 'leaveOut' | 'goTo'>) {
  const { level, message, remedy, table, section } = note
  const look = LOOKS[level]
  return (
    <div className={`border-l-3 px-2.5 py-1.5 text-[13px] ${look}`}>
      <p className="font-semibold">{message}</p>
      <p className="text-ink-2">
        {remedy}{' '}
        {level === 'refused' && table && leaveOut && (
          <TextButton onClick={() => leaveOut(table)}>Leave it out</TextButton>
        )}
        {goTo && !(level === 'refused' && table) && (
          <TextButton onClick={() => goTo(section, table)}>Show</TextButton>
        )}
      </p>
    </div>
  )
}

function Sentence({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="py-2 text-[13px]">
      <h3 className="text-[14px]">{title}</h3>
      <div className="text-ink-2">{children}</div>
    </div>
  )
}

function Statements({ label, statements }: { label: string; statements: string[] }) {
  return (
    <details className="mt-0.5">
      <summary className="text-link">{label}</summary>
      <PasteBlock text={statements.map(statement => `${statement};`).join('\n\n')} />
    </details>
  )
}

function LaneTypes({ plan }: { plan: PlanAnswer }) {
  return (
    <table className="mt-1 w-full font-mono text-[11px] text-ink">
      <tbody>
        {plan.lanes.map(lane => (
          <Fragment key={printName(lane.source)}>
            <tr>
              <th colSpan={3} scope="colgroup" className="pt-2 text-left">
                {printName(lane.source)} → {lane.target.name}
              </th>
            </tr>
            {lane.writes.map(column => (
              <tr key={column.name}>
                <td className="pr-2">
                  {column.name}
                  {lane.key.includes(column.name) && <span className="font-sans text-ink-2"> key</span>}
                </td>
                <td className="pr-2 text-ink-2">
                  {lane.reads.find(({ name }) => name === takenFrom(column))?.nativeType}
                </td>
                <td>{column.nativeType}</td>
              </tr>
            ))}
          </Fragment>
        ))}
      </tbody>
    </table>
  )
}
