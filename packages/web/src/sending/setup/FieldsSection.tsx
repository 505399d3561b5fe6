import type { AppField, AppObject } from '@tide/core/app/object'
import { mayCreate, type FieldPair, type SendDefinition } from '@tide/core/definition/send'
import type { SentColumn } from '@tide/core/send/mapped'
import type { Proposed } from '@tide/core/send/propose'
import type { SendNote } from '@tide/core/send/plan'
import { printType } from '@tide/core/records/types'
import { plural } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'
import { Section, type Turning } from '../../pipelines/setup/Section.tsx'

interface FieldsProps extends Turning {
  definition: SendDefinition
  columns: readonly SentColumn[]
  object: AppObject | undefined
  objects: readonly AppObject[]
  proposed: Proposed['fields']
  notes: readonly SendNote[]
  change: (part: Partial<SendDefinition>) => void
}

type Kind = 'column' | 'constant' | 'template' | 'expression'

const KINDS: { value: Kind; title: string }[] = [
  { value: 'column', title: 'column' },
  { value: 'constant', title: 'constant' },
  { value: 'template', title: 'template' },
  { value: 'expression', title: 'expression' },
]

const kindOf = ({ from }: FieldPair) => Object.keys(from)[0] as Kind
const textOf = ({ from }: FieldPair) => Object.values(from)[0] as string
const fromOf = (kind: Kind, text: string) => ({ [kind]: text }) as FieldPair['from']

/** Which field gets what: a field a line, what is required and has nothing first. */
export function FieldsSection(props: FieldsProps) {
  const { definition, columns, object, objects, proposed, notes, change, ...turning } = props
  const pairs = definition.fields
  const set = (fields: FieldPair[]) => change({ fields })
  const put = (i: number, pair: FieldPair) => set(pairs.with(i, pair))
  const taken = new Set(pairs.map(({ field }) => field))
  const free = object?.fields.filter(({ name, readOnly }) => !readOnly && !taken.has(name)) ?? []
  const missing = mayCreate(definition) ? free.filter(({ required }) => required) : []
  const add = (field: AppField) => {
    const column = proposed.find(one => one.field === field.name)
    set([...pairs, column ?? { field: field.name, from: { column: '' } }])
  }
  return (
    <Section
      {...turning}
      name="fields"
      title="Fields"
      says={
        pairs.length === 0
          ? 'none yet'
          : `${plural(pairs.length, 'field')}: ${pairs.map(({ field }) => field).join(', ')}`
      }
    >
      {!object && <p className="text-ink-2">Choose an object first.</p>}
      {missing.map(field => (
        <p
          key={field.name}
          className="mb-1 border-l-3 border-buoy-mark bg-buoy-paper px-2.5 py-1 text-[13px]"
        >
          <b className="font-mono text-[12px]">{field.name}</b> is required, and gets nothing.{' '}
          <TextButton onClick={() => add(field)}>Set it</TextButton>
        </p>
      ))}
      {proposed.length > 0 && (
        <p className="mb-2 text-[13px] text-ink-2">
          {plural(proposed.length, 'field has', 'fields have')} a column of the same name:{' '}
          <span className="font-mono text-[12px]">{proposed.map(({ field }) => field).join(', ')}</span>.{' '}
          <TextButton onClick={() => set([...pairs, ...proposed])}>Join them</TextButton>
        </p>
      )}
      {pairs.length > 0 && (
        <table className="w-full table-fixed text-[13px]" aria-label="Fields that are sent">
          <thead>
            <tr className="border-b border-line-2 text-left text-[12px] text-ink-2">
              <th scope="col" className="w-40 py-1 font-semibold">
                Field
              </th>
              <th scope="col" className="font-semibold">
                gets
              </th>
              <th scope="col" className="w-36 font-semibold">
                when
              </th>
              <th scope="col" className="w-16">
                <span className="sr-only">Remove</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {pairs.map((pair, i) => (
              <PairLine
                key={pair.field}
                pair={pair}
                field={object?.fields.find(({ name }) => name === pair.field)}
                columns={columns}
                objects={objects}
                wrong={notes.some(({ field, level }) => field === pair.field && level === 'refused')}
                put={next => put(i, next)}
                remove={() => set(pairs.toSpliced(i, 1))}
              />
            ))}
          </tbody>
        </table>
      )}
      {free.length > 0 && (
        <label className="mt-2 flex items-baseline gap-2 text-[13px] text-ink-2">
          Set another field
          <InlineSelect
            label="Set another field"
            value=""
            options={[
              { value: '', title: 'choose one' },
              ...free.map(({ name, title }) => ({
                value: name,
                title: title === name ? name : `${name}, ${title}`,
              })),
            ]}
            onChange={({ target }) => {
              const field = free.find(({ name }) => name === target.value)
              if (field) add(field)
            }}
          />
        </label>
      )}
    </Section>
  )
}

interface PairLineProps {
  pair: FieldPair
  field: AppField | undefined
  columns: readonly SentColumn[]
  objects: readonly AppObject[]
  wrong: boolean
  put: (pair: FieldPair) => void
  remove: () => void
}

function PairLine({ pair, field, columns, objects, wrong, put, remove }: PairLineProps) {
  const kind = kindOf(pair)
  const text = textOf(pair)
  const other = objects.find(({ name }) => name === field?.refers)
  return (
    <tr className={`border-b border-line align-top ${wrong ? 'bg-buoy-paper' : ''}`}>
      <th scope="row" className="py-1.5 text-left font-mono text-[12px] font-normal">
        {pair.field}
        <span className="block font-sans text-[11px] text-ink-3">{field && facts(field)}</span>
      </th>
      <td className="py-1.5 pr-2">
        <div className="flex gap-1.5">
          <InlineSelect
            label={`What ${pair.field} is made of`}
            className="w-24 shrink-0"
            value={kind}
            options={KINDS}
            onChange={({ target }) => put({ ...pair, from: fromOf(target.value as Kind, '') })}
          />
          {kind === 'column' ? (
            <InlineSelect
              label={`Column for ${pair.field}`}
              className="w-full min-w-0"
              value={text}
              options={[
                ...(columns.some(({ name }) => name === text)
                  ? []
                  : [{ value: text, title: text || 'choose one' }]),
                ...columns.map(({ name, type }) => ({ value: name, title: `${name}, ${printType(type)}` })),
              ]}
              onChange={({ target }) => put({ ...pair, from: { column: target.value } })}
            />
          ) : (
            <InlineField
              label={`${kind} for ${pair.field}`}
              className="w-full min-w-0"
              placeholder={
                kind === 'template'
                  ? '{column} and text'
                  : kind === 'expression'
                    ? 'CEL over the columns'
                    : ''
              }
              value={text}
              onChange={({ target }) => put({ ...pair, from: fromOf(kind, target.value) })}
            />
          )}
        </div>
        {other && (
          <label className="mt-1 flex items-baseline gap-1.5 text-[12px] text-ink-2">
            {other.title}, found by
            <InlineSelect
              label={`By what ${pair.field} is found`}
              value={pair.by ?? ''}
              options={[
                { value: '', title: `its key, ${other.key}` },
                ...other.fields
                  .map(({ name }) => ({ value: name, title: name }))
                  .filter(({ value }) => value !== other.key),
              ]}
              onChange={({ target }) => put({ ...pair, by: target.value || undefined })}
            />
          </label>
        )}
      </td>
      <td className="space-y-1 py-1.5 pr-2">
        <InlineSelect
          label={`When ${pair.field} is set`}
          className="w-full"
          value={pair.once ? 'once' : ''}
          options={[
            { value: '', title: 'always' },
            { value: 'once', title: 'if it is new' },
          ]}
          onChange={({ target }) => put({ ...pair, once: target.value === 'once' ? true : undefined })}
        />
        <InlineSelect
          label={`What a null does to ${pair.field}`}
          className="w-full"
          value={pair.empty ?? 'leave'}
          options={[
            { value: 'leave', title: 'null leaves it' },
            { value: 'clear', title: 'null empties it' },
          ]}
          onChange={({ target }) => put({ ...pair, empty: target.value === 'clear' ? 'clear' : undefined })}
        />
      </td>
      <td className="py-1.5 text-right">
        <TextButton onClick={remove} aria-label={`Remove ${pair.field}`}>
          Remove
        </TextButton>
      </td>
    </tr>
  )
}

function facts({ type, required, choices, maxLength, unique }: AppField): string {
  return [
    printType(type),
    required && 'required',
    unique && 'unique',
    choices && choices.join(' | '),
    maxLength !== null && `at most ${maxLength}`,
  ]
    .filter(Boolean)
    .join(', ')
}
