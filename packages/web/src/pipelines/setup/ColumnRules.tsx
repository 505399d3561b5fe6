import { matcherOf, pathOf } from '@tide/core/naming/pattern'
import type { Dataset } from '@tide/core/records/dataset'
import { TYPE_NAMES } from '@tide/core/records/type-name'
import { CUT_SUFFIX, type ColumnDeed, type ColumnRule } from '@tide/core/shape/column-rule'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'
import { OrderedList } from '../../parts/OrderedList.tsx'
import { lazy, Suspense, useId } from 'react'
import { COLUMN_DEEDS, columnChoiceOf } from './columnDeeds.ts'

const ExpressionField = lazy(() => import('./ExpressionField.tsx'))

/** The column rules in their order, each in two lines: which columns or tables, and what becomes of them. */
export function ColumnRules({
  rules,
  tables,
  change,
}: {
  rules: readonly ColumnRule[]
  /** Those that take part. */
  tables: readonly Dataset[]
  change: (rules: ColumnRule[]) => void
}) {
  return (
    <OrderedList
      label="Column rules"
      one="column rule"
      items={rules}
      change={change}
      line={({ like, does }, number, set, buttons) => (
        <>
          <div className="flex items-baseline gap-2">
            <b className="w-4">{number}</b>
            <span className="text-ink-2">{'add' in does ? 'tables like' : 'columns like'}</span>
            <InlineField
              label={`Pattern of column rule ${number}`}
              className="min-w-0 flex-1"
              value={like}
              onChange={event => set({ like: event.target.value, does })}
            />
            {buttons}
          </div>
          <div className="mt-1 flex items-baseline gap-2 pl-6">
            <InlineSelect
              label={`Deed of column rule ${number}`}
              value={columnChoiceOf(does).title}
              options={COLUMN_DEEDS.map(({ title }) => ({ value: title, title }))}
              onChange={event =>
                set({ like, does: COLUMN_DEEDS.find(({ title }) => title === event.target.value)!.begin })
              }
            />
            <DeedFields number={number} deed={does} change={next => set({ like, does: next })} />
          </div>
          {'compute' in does && (
            <Suspense fallback={<div className="h-9" />}>
              <ExpressionField
                label={`Expression of column rule ${number}`}
                value={does.compute}
                table={tableOf(like, 'add' in does, tables)}
                change={compute => set({ like, does: { ...does, compute } })}
              />
            </Suspense>
          )}
        </>
      )}
    />
  )
}

/** The first that a rule is about. */
function tableOf(like: string, adds: boolean, tables: readonly Dataset[]): Dataset | undefined {
  const matches = matcherOf(like)
  return tables.find(({ namespace, name, fields }) =>
    adds
      ? matches(pathOf(namespace, name))
      : fields.some(field => matches(pathOf(namespace, name, field.name))),
  )
}

interface DeedFieldsProps {
  number: number
  deed: ColumnDeed
  change: (deed: ColumnDeed) => void
}

function DeedFields({ number, deed, change }: DeedFieldsProps) {
  const typesId = useId()
  const field = (
    label: string,
    value: string,
    set: (text: string) => void,
    width = 'w-36',
    list?: string,
  ) => (
    <>
      <span className="text-ink-2">{label}</span>
      <InlineField
        label={`${label} of column rule ${number}`}
        className={`${width} min-w-0`}
        value={value}
        list={list}
        onChange={event => set(event.target.value)}
      />
    </>
  )
  const whole = (text: string) => Math.min(100, Number(text.replace(/\D/g, '')))
  if ('add' in deed) {
    return (
      <>
        {field('called', deed.add, add => change({ ...deed, add }))}
        {'constant' in deed &&
          field('always', deed.constant ?? '', constant => change({ ...deed, constant }))}
      </>
    )
  }
  if ('become' in deed) {
    return (
      <>
        {field('as', deed.become, become => change({ become }), 'w-44', typesId)}
        <datalist id={typesId}>
          {['decimal(12,2)', ...TYPE_NAMES].map(name => (
            <option key={name} value={name} />
          ))}
        </datalist>
      </>
    )
  }
  if ('limit' in deed) {
    const bytes = (text: string) => Math.min(1_000_000_000, Math.max(1, Number(text.replace(/\D/g, ''))))
    return (
      <>
        {field('bytes', String(deed.limit), text => change({ ...deed, limit: bytes(text) }), 'w-24')}
        {field('what was cut in', deed.suffix ?? CUT_SUFFIX, suffix => change({ ...deed, suffix }), 'w-24')}
      </>
    )
  }
  if (!('mask' in deed)) return null
  if (deed.mask === 'constant') return field('always', deed.by, by => change({ ...deed, by }))
  if (deed.mask !== 'ends') return null
  return (
    <>
      {field('first', String(deed.first), text => change({ ...deed, first: whole(text) }), 'w-12')}
      {field('last', String(deed.last), text => change({ ...deed, last: whole(text) }), 'w-12')}
    </>
  )
}
