import type { LaneForeseen, TwoWayLook, TwoWayRow } from '@tide/core/api/two-way'
import type { AppField, AppObject } from '@tide/core/app/object'
import { CONFLICTS, DIRECTIONS, type TwoWayJoin, type TwoWayLane } from '@tide/core/definition/two-way'
import type { TwoWayNote } from '@tide/core/two-way/note'
import { mergesLines } from '@tide/core/two-way/plan'
import type { ProposedJoin } from '@tide/core/two-way/propose'
import { useState } from 'react'
import { plural } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { InlineSelect } from '../../parts/Field.tsx'
import { Section, type Turning } from '../../pipelines/setup/Section.tsx'
import { directionSaid, joinName, ruleSaid, valueSaid, type Called } from '../said.ts'
import { JoinRule } from './JoinRule.tsx'
import { NotJoined } from './NotJoined.tsx'

interface FieldsProps extends Turning {
  lane: TwoWayLane
  objects: { a: AppObject; b: AppObject }
  called: Called
  notes: readonly TwoWayNote[]
  proposed: readonly ProposedJoin[]
  foreseen: LaneForeseen | undefined
  connections: { a: string; b: string }
  makes: TwoWayLook['makes']
  change: (part: Partial<TwoWayLane>) => void
}

/** Field pairs, one a line, with a live record running down the page. */
export function FieldsSection({
  lane,
  objects,
  called,
  notes,
  proposed,
  foreseen,
  connections,
  makes,
  change,
  ...turning
}: FieldsProps) {
  const { fields } = lane
  const [open, setOpen] = useState<string>()
  const rows = (foreseen?.rows ?? []).filter(({ a, b }) => a ?? b)
  const [shown, setShown] = useState(0)
  const row = rows[Math.min(shown, Math.max(0, rows.length - 1))]
  const oneWay = fields.filter(({ direction }) => direction !== 'both').length
  const says =
    fields.length === 0
      ? 'none joined yet'
      : `${fields.length - oneWay} joined, ${oneWay} one way${proposed.length > 0 ? `, ${proposed.length} more proposed` : ''}`
  const put = (i: number, part: Partial<TwoWayJoin>) =>
    change({ fields: fields.map((one, n) => (n === i ? { ...one, ...part } : one)) })
  return (
    <Section {...turning} name="fields" title="Fields" says={says}>
      {rows.length > 0 && (
        <label className="mb-1 flex items-baseline gap-2 text-[13px] text-ink-2">
          Shown with
          <InlineSelect
            label="Record that the fields are shown with"
            value={String(Math.min(shown, rows.length - 1))}
            options={rows.map((one, i) => ({ value: String(i), title: rowSaid(one, objects) }))}
            onChange={({ target }) => setShown(Number(target.value))}
          />
        </label>
      )}
      {fields.length > 0 && (
        <table className="w-full table-fixed border-collapse text-[13px]" aria-label="Field pairs">
          <colgroup>
            <col className="w-[30%]" />
            <col className="w-[34%]" />
            <col className="w-[36%]" />
          </colgroup>
          <thead>
            <tr className="border-b border-line-2 text-left text-[12px] text-ink-2">
              <th scope="col" className="py-1.5 font-semibold">
                {called.a}
              </th>
              <th scope="col" className="px-2 py-1.5 font-semibold">
                How
              </th>
              <th scope="col" className="py-1.5 font-semibold">
                {called.b}
              </th>
            </tr>
          </thead>
          <tbody>
            {fields.map((join, i) => {
              const name = joinName(join)
              return (
                <JoinLines
                  key={`${name} ${i}`}
                  join={join}
                  row={row}
                  objects={objects}
                  called={called}
                  note={notes.find(note => note.join === name)}
                  writes={foreseen?.writes[name]}
                  losses={foreseen?.losses[name]}
                  open={open === name}
                  turn={() => setOpen(open === name ? undefined : name)}
                  put={part => put(i, part)}
                  remove={() => change({ fields: fields.toSpliced(i, 1) })}
                  lane={lane}
                />
              )
            })}
          </tbody>
        </table>
      )}
      {proposed.length > 0 && (
        <div className="mt-3 text-[13px]">
          <p className="flex items-baseline gap-3">
            <TextButton onClick={() => change({ fields: [...fields, ...proposed.map(({ join }) => join)] })}>
              {fields.length === 0
                ? `Take the ${proposed.length} that are proposed`
                : `Propose ${proposed.length} more`}
            </TextButton>
          </p>
          <ul className="mt-1 text-ink-2">
            {proposed.map(({ join, reason }) => (
              <li key={joinName(join)}>
                <TextButton
                  aria-label={`Join ${join.a} and ${join.b}`}
                  onClick={() => change({ fields: [...fields, join] })}
                >
                  Join
                </TextButton>{' '}
                <span className="font-mono text-[12px] text-ink">{joinName(join)}</span> {reason}
              </li>
            ))}
          </ul>
        </div>
      )}
      <NotJoined
        lane={lane}
        objects={objects}
        called={called}
        connections={connections}
        makes={makes}
        change={change}
      />
    </Section>
  )
}

function rowSaid({ a, b, does }: TwoWayRow, objects: FieldsProps['objects']): string {
  const half = a ?? b!
  const { label } = objects[a ? 'a' : 'b']
  const called = label === null ? undefined : half.values[label]
  return `${half.id}${called ? `, ${called}` : ''}${does === 'create' ? ', would be made' : ''}`
}

interface JoinLinesProps {
  join: TwoWayJoin
  lane: TwoWayLane
  row: TwoWayRow | undefined
  objects: FieldsProps['objects']
  called: Called
  note: TwoWayNote | undefined
  writes: { a: number; b: number } | undefined
  losses: { a?: number; b?: number } | undefined
  open: boolean
  turn: () => void
  put: (part: Partial<TwoWayJoin>) => void
  remove: () => void
}

function JoinLines({
  join,
  lane,
  row,
  objects,
  called,
  note,
  writes,
  losses,
  open,
  turn,
  put,
  remove,
}: JoinLinesProps) {
  const fields = {
    a: objects.a.fields.find(({ name }) => name === join.a),
    b: objects.b.fields.find(({ name }) => name === join.b),
  }
  const rule = ruleSaid(join, called) ?? byType(fields.a, fields.b)
  // What could lose something is not in the way while no record does.
  const isQuiet = note?.loses !== undefined && losses?.[note.loses] === 0
  const byLine = fields.a && fields.b && mergesLines(join, { a: fields.a, b: fields.b })
  const count = (writes?.a ?? 0) + (writes?.b ?? 0)
  return (
    <>
      <tr className={`align-top ${open ? '' : 'border-b border-line'}`}>
        <td className="py-1.5 pr-2">
          <SideCell side="a" join={join} row={row} field={fields.a} />
        </td>
        <td className="px-2 py-1.5">
          <button
            type="button"
            className="text-left font-semibold text-link underline-offset-2 hover:underline"
            aria-expanded={open}
            aria-label={`${directionSaid(join, called)}, how ${join.a} and ${join.b} are joined`}
            onClick={turn}
          >
            {directionSaid(join, called)}
          </button>
          {rule && <div>{rule}</div>}
          {join.direction === 'both' && (
            <div className="text-[12px] text-ink-2">
              in a conflict {conflictSaid(join.conflict ?? lane.conflict, called)}
            </div>
          )}
          {note && (
            <div className={isQuiet ? 'text-ink-2' : note.level === 'warning' ? 'text-ochre' : 'text-buoy'}>
              {note.message}
            </div>
          )}
          {count > 0 && (
            <div className="text-[12px] text-ink-2">{plural(count, 'record')} would be written</div>
          )}
        </td>
        <td className="py-1.5">
          <SideCell side="b" join={join} row={row} field={fields.b} />
        </td>
      </tr>
      {open && (
        <tr className="border-b border-line-2">
          <td colSpan={3} className="bg-paper-2 px-3 py-2">
            <div className="flex flex-wrap items-baseline gap-x-5 gap-y-2">
              <InlineSelect
                label={`Direction of ${join.a}`}
                value={join.direction}
                options={DIRECTIONS.filter(
                  one =>
                    (one === 'a to b' || !fields.a?.readOnly) && (one === 'b to a' || !fields.b?.readOnly),
                ).map(value => ({ value, title: directionSaid({ direction: value }, called) }))}
                onChange={({ target }) => put({ direction: target.value as TwoWayJoin['direction'] })}
              />
              {join.direction === 'both' ? (
                <label className="flex items-baseline gap-2">
                  in a conflict
                  <InlineSelect
                    label={`In a conflict of ${join.a}`}
                    value={join.conflict ?? ''}
                    options={[
                      { value: '', title: `as the lane: ${conflictSaid(lane.conflict, called)}` },
                      ...[...CONFLICTS, ...(byLine ? (['by line'] as const) : [])].map(value => ({
                        value,
                        title: conflictSaid(value, called),
                      })),
                    ]}
                    onChange={({ target }) =>
                      put({ conflict: (target.value || undefined) as TwoWayJoin['conflict'] })
                    }
                  />
                </label>
              ) : (
                <label className="flex items-baseline gap-2">
                  what is edited on the other side
                  <InlineSelect
                    label={`What is edited on the other side of ${join.a}`}
                    value={join.against ?? 'left'}
                    options={[
                      { value: 'left', title: 'is left until it comes again' },
                      { value: 'put back', title: 'is put back at once' },
                    ]}
                    onChange={({ target }) =>
                      put({ against: target.value === 'left' ? undefined : 'put back' })
                    }
                  />
                </label>
              )}
              <TextButton className="ml-auto" aria-label={`Take apart ${join.a}`} onClick={remove}>
                Take apart
              </TextButton>
            </div>
            {fields.a && fields.b && (
              <JoinRule join={join} fields={{ a: fields.a, b: fields.b }} called={called} put={put} />
            )}
          </td>
        </tr>
      )}
    </>
  )
}

function conflictSaid(conflict: NonNullable<TwoWayJoin['conflict']>, { a, b }: Called): string {
  if (conflict === 'the later') return 'the later edit counts'
  if (conflict === 'by line') return 'both edits are kept, line by line'
  return conflict === 'ask' ? 'a person decides' : `${conflict === 'a' ? a : b} counts`
}

function byType(a: AppField | undefined, b: AppField | undefined): string | undefined {
  if (!a || !b) return undefined
  if (a.refers !== null && b.refers !== null) return `through the pairs of ${a.refers}`
  if (a.refers !== null) return `by what its ${a.refers} are called`
  if (b.refers !== null) return `by what its ${b.refers} are called`
  return a.type.kind === 'list' && b.type.kind === 'list' ? 'as a set' : undefined
}

interface SideCellProps {
  side: 'a' | 'b'
  join: TwoWayJoin
  row: TwoWayRow | undefined
  field: AppField | undefined
}

/** A field with what the record has there, and what that is to become. */
function SideCell({ side, join, row, field }: SideCellProps) {
  const name = join[side]
  const half = row?.[side]
  const is = half?.values[name] ?? null
  const becomes = row?.becomes[side]
  const changes = becomes !== undefined && name in becomes
  return (
    <>
      <b>{field?.title ?? name}</b>
      {field?.readOnly && <span className="text-ink-2"> cannot be written</span>}
      <div className="text-[12px] break-words text-ink-2">
        {half && !changes && <span className="line-clamp-3">{valueSaid(is)}</span>}
        {changes && (
          <>
            {half && is !== null && <del className="mr-1 text-ink-3">{valueSaid(is)}</del>}
            <ins className="bg-water-1 text-ink no-underline">{valueSaid(becomes[name] ?? null)}</ins>
          </>
        )}
      </div>
    </>
  )
}
