import type { PlanAnswer } from '@tide/core/api/plans'
import { SetupNote } from './setup/SetupNote.tsx'
import { madeOf } from '@tide/core/plan/lane'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import type { PlanNote } from '@tide/core/plan/note'
import { datasetId, printName, type DatasetName } from '@tide/core/records/dataset'
import { printCondition } from '@tide/core/scope/condition'
import { printType } from '@tide/core/records/types'
import { printMask } from '@tide/core/shape/mask'
import { Fragment } from 'react'
import { bytes, count, duration, plural } from '../format.ts'
import { TextButton } from '../parts/Button.tsx'
import { PasteBlock } from '../parts/Copyable.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { doesSaid } from './setup/StartSection.tsx'
import { PlanChanges } from './PlanChanges.tsx'
import { Sentence, Statements } from './PlanSentence.tsx'

interface PlanMarginProps {
  plan: PlanAnswer | undefined
  does: ReplicateDefinition['does']
  error: unknown
  fromName: string
  toName: string
  /** Looks at both systems anew. */
  lookAgain?: () => void
  leaveOut?: (tables: readonly DatasetName[]) => void
  goTo?: (section: PlanNote['section']) => void
}

/** Everything a start would do, in plain sentences and exact figures, warnings in order of harm. */
export function PlanMargin(props: PlanMarginProps) {
  const { plan, does, error, fromName, toName, leaveOut, goTo, lookAgain } = props
  if (error) {
    return (
      <>
        <ErrorNotice error={error} />
        {lookAgain && <TextButton onClick={lookAgain}>Look again</TextButton>}
      </>
    )
  }
  if (!plan) return <p className="text-[13px] text-ink-2">Reading both catalogues …</p>
  const { notes, lanes, steps, statements, sourceStatements } = plan
  const replaced = steps.filter(step => step.step === 'replace table').length
  const emptied = steps.filter(step => step.step === 'empty table').length
  const altered = steps.filter(step => step.step === 'alter table').length
  const created = steps.filter(step => step.step === 'create table').length
  // Of lanes that share a table, one speaks for all.
  const tables = sharedOnce(lanes)
  const renamed = tables.filter(({ source, target }) => source.name !== target.name).length
  const renamedColumns = tables.reduce(
    (sum, lane) =>
      sum + lane.writes.filter(column => ![undefined, column.name].includes(madeOf(column))).length,
    0,
  )
  const columns = tables.reduce((sum, lane) => sum + lane.writes.length, 0)
  const made = tables.reduce((sum, lane) => sum + lane.writes.filter(madeOf).length, 0)
  const schemas = steps.filter(step => step.step === 'create schema').length
  const into = [...new Set(lanes.map(({ target }) => target.namespace))]
  const said = (notes: readonly PlanNote[]) =>
    notes.map(note => (
      <Note key={note.message} note={note} leaveOut={leaveOut} goTo={goTo} lookAgain={lookAgain} />
    ))
  return (
    <div className="space-y-2.5">
      {said(notes.filter(({ level }) => !plan.change || level !== 'warning'))}
      {plan.change && lanes.length > 0 && (
        <>
          <PlanChanges plan={plan} change={plan.change} fromName={fromName} />
          {said(notes.filter(({ level }) => level === 'warning'))}
        </>
      )}
      {lanes.length > 0 && !plan.change && (
        <div className="divide-y divide-line">
          <Sentence
            title={`${created > 0 ? `Creates ${plural(created, 'table')}` : 'Creates no table'}${replaced > 0 ? `, replaces ${replaced}` : ''}${emptied > 0 ? `, empties ${emptied}` : ''}${altered > 0 ? `, alters ${altered}` : ''}${schemas === 0 ? '' : schemas === 1 ? ' and a schema' : ` and ${schemas} schemas`}`}
          >
            {plural(columns, 'column')} in {into.length === 1 ? into[0] : plural(into.length, 'schema')} of{' '}
            {toName}. {existing(created, replaced + emptied, altered, tables.length)}
            <Statements label={`See the ${plural(statements.length, 'statement')}`} statements={statements} />
          </Sentence>
          <Sentence
            title={
              renamed + renamedColumns === 0
                ? 'Renames nothing'
                : `Renames ${count(renamed + renamedColumns)} of ${count(tables.length + made)} names`
            }
          >
            {renamed + renamedColumns === 0
              ? 'Every name is taken as it is.'
              : 'By the naming rules and what the target makes of letters; no two names meet.'}
            <details>
              <summary className="text-link">See tables, columns and types</summary>
              <LaneTypes plan={plan} into={into} />
            </details>
          </Sentence>
          <Origins lanes={lanes} />
          <Shaping lanes={tables} archives={does === 'archive'} />
          {does === 'archive' ? (
            <Sentence
              title={`Archives at most ${lanes.every(lane => lane.rowsExact) ? '' : 'about '}${plural(plan.rows, 'row')}, ${bytes(plan.bytes)}`}
            >
              Slice by slice: read, written, read back and held against what was read, then deleted at{' '}
              {fromName}. A rehearsal with all rows counts those in scope.
            </Sentence>
          ) : does === undefined || does === 'copy' ? (
            <Sentence
              title={`Copies ${lanes.some(lane => lane.scope !== null) ? 'at most ' : ''}${lanes.every(lane => lane.rowsExact) ? '' : 'about '}${plural(plan.rows, 'row')}, ${bytes(plan.bytes)}`}
            >
              {plan.estimateSeconds === null
                ? 'How long is not known before the first copy between the two'
                : `About ${duration(plan.estimateSeconds)} at what these two did last time`}
              ; then {does === 'copy' ? 'it is finished' : 'follows'}.
            </Sentence>
          ) : (
            <Sentence title="Copies no row">{doesSaid(does)}</Sentence>
          )}
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

/** What becomes of tables that exist, `gone` of which lose their rows. */
function existing(created: number, gone: number, altered: number, tables: number): string {
  if (gone > 0) return 'The present rows of what is replaced or emptied are deleted.'
  if (altered > 0) return 'What is altered keeps its rows.'
  return created < tables
    ? 'Tables that are there already stay as they are made.'
    : 'Nothing that exists is changed.'
}

type NoteProps = { note: PlanNote } & Pick<PlanMarginProps, 'leaveOut' | 'goTo' | 'lookAgain'>

function Note({ note, leaveOut, goTo, lookAgain }: NoteProps) {
  const { level, paste, tables, section } = note
  const deeds = (
    <>
      {level === 'refused' && tables && leaveOut && (
        <TextButton className="mr-3" onClick={() => leaveOut(tables)}>
          {tables.length === 1 ? 'Leave it out' : `Leave the ${count(tables.length)} out`}
        </TextButton>
      )}
      {goTo && !(level === 'refused' && tables && section === 'tables') && (
        <TextButton onClick={() => goTo(section)}>Show</TextButton>
      )}
    </>
  )
  return (
    <SetupNote note={note} deeds={deeds}>
      {paste !== undefined && <PasteBlock text={paste} />}
      {paste !== undefined && lookAgain && <TextButton onClick={lookAgain}>Look again</TextButton>}
    </SetupNote>
  )
}

function sharedOnce(lanes: PlanAnswer['lanes']): PlanAnswer['lanes'] {
  const seen = new Set<string>()
  return lanes.filter(({ target }) => {
    const key = datasetId(target)
    return !seen.has(key) && seen.add(key)
  })
}

/** What comes from where; nothing where there is one source. */
function Origins({ lanes }: { lanes: PlanAnswer['lanes'] }) {
  const byTag = new Map<string, PlanAnswer['lanes']>()
  for (const lane of lanes) {
    if (lane.origin === undefined) return null
    byTag.set(lane.origin, [...(byTag.get(lane.origin) ?? []), lane])
  }
  const column = lanes[0]!.writes.find(({ value }) => value.from === 'origin')!.name
  return (
    <Sentence title={`Brings ${plural(byTag.size, 'origin')} together`}>
      The column {column} says of each row where it is from, and is part of each key: rows with equal keys
      stay apart. Each origin is copied, followed and recopied by itself.
      <ul>
        {[...byTag].map(([tag, own]) => (
          <li key={tag}>
            <b className="text-ink">{tag}</b>: {own.every(lane => lane.rowsExact) ? '' : 'about '}
            {plural(
              own.reduce((sum, { rows }) => sum + rows, 0),
              'row',
            )}{' '}
            in {plural(own.length, 'table')}
          </li>
        ))}
      </ul>
    </Sentence>
  )
}

/** What becomes of columns and rows by rules; nothing where there are none. */
function Shaping({ lanes, archives }: { lanes: PlanAnswer['lanes']; archives: boolean }) {
  const masked = lanes.flatMap(({ writes }) => writes.filter(({ value }) => value.from === 'masked'))
  const added = lanes.flatMap(({ writes }) =>
    writes.filter(column => madeOf(column) === undefined && column.value.from !== 'origin'),
  )
  const turned = lanes.flatMap(({ writes }) =>
    writes.filter(({ value }) => value.from === 'retyped' || value.from === 'cut'),
  )
  const leftOut = lanes.reduce((sum, lane) => sum + (lane.leftOut?.length ?? 0), 0)
  const scoped = lanes.filter(({ scope }) => scope !== null)
  const parts = [
    masked.length > 0 && `masks ${plural(masked.length, 'column')}`,
    turned.length > 0 && `retypes or cuts ${plural(turned.length, 'column')}`,
    added.length > 0 && `adds ${count(added.length)}`,
    leftOut > 0 && `leaves out ${count(leftOut)}`,
    scoped.length > 0 && `scopes ${plural(scoped.length, 'table')}`,
  ].filter(part => part !== false)
  if (parts.length === 0) return null
  const title = parts.join(', ')
  return (
    <Sentence title={title[0]!.toUpperCase() + title.slice(1)}>
      {masked.length > 0 && 'What is masked never reaches the target as it is. '}
      {scoped.length > 0 && !archives && 'Rows that leave a scope go, rows that enter one come whole.'}
      <details>
        <summary className="text-link">See which</summary>
        <ul className="font-mono text-[11px] text-ink">
          {lanes
            .flatMap(({ source, writes, leftOut: out = [], scope }) => [
              ...writes.flatMap(({ name, type, value }) =>
                value.from === 'masked'
                  ? [`${printName(source)}.${value.column} → ${name}: ${printMask(value.how)}`]
                  : value.from === 'retyped'
                    ? [`${printName(source)}.${value.column} → ${name}: as ${printType(type)}`]
                    : value.from === 'cut'
                      ? [`${printName(source)}.${value.column} → ${name}: at most ${bytes(value.bytes)}`]
                      : value.from === 'column' || value.from === 'origin'
                        ? []
                        : [
                            `${printName(source)} + ${name}: ${value.from === 'metadata' ? value.what : value.from}`,
                          ],
              ),
              ...out.map(name => `${printName(source)}.${name}: left out`),
              ...(scope ? [`${printName(source)}: ${printCondition(scope)}`] : []),
            ])
            .map(line => (
              <li key={line}>{line}</li>
            ))}
        </ul>
      </details>
    </Sentence>
  )
}

function LaneTypes({ plan, into }: { plan: PlanAnswer; into: string[] }) {
  return (
    <table className="mt-1 w-full font-mono text-[11px] text-ink">
      <tbody>
        {sharedOnce(plan.lanes).map(lane => (
          <Fragment key={printName(lane.source)}>
            <tr>
              <th colSpan={3} scope="colgroup" className="pt-2 text-left">
                {printName(lane.source)} → {into.length === 1 ? lane.target.name : printName(lane.target)}
              </th>
            </tr>
            {lane.writes.map(column => (
              <tr key={column.name}>
                <td className="pr-2">
                  {column.name}
                  {lane.key.includes(column.name) && <span className="font-sans text-ink-2"> key</span>}
                </td>
                <td className="pr-2 text-ink-2">
                  {lane.reads.find(({ name }) => name === madeOf(column))?.nativeType ?? 'added'}
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
