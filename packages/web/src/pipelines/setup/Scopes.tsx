import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { asCondition, asExpression } from '@tide/core/scope/as-expression'
import { printCondition, type Condition } from '@tide/core/scope/condition'
import type { Dataset } from '@tide/core/records/dataset'
import { matcherOf, pathOf } from '@tide/core/naming/pattern'
import { lazy, Suspense, useId } from 'react'
import { TextButton } from '../../parts/Button.tsx'
import { InlineField } from '../../parts/Field.tsx'
import { OrderedList } from '../../parts/OrderedList.tsx'
import { ConditionLines } from './ConditionLines.tsx'
import { listOf } from './conditions.ts'

const ExpressionField = lazy(() => import('./ExpressionField.tsx'))

export type Scope = NonNullable<ReplicateDefinition['scopes']>[number]

interface ScopesProps {
  scopes: readonly Scope[]
  /** Names of columns that there are, to choose from. */
  columns: readonly string[]
  /** Those that take part. */
  tables: readonly Dataset[]
  change: (scopes: Scope[]) => void
}

/** Which rows of which tables take part, a condition a line. */
export function Scopes({ scopes, columns, tables, change }: ScopesProps) {
  const listId = useId()
  return (
    <>
      <datalist id={listId}>
        {columns.map(name => (
          <option key={name} value={name} />
        ))}
      </datalist>
      <OrderedList
        label="Scopes"
        one="scope"
        items={scopes}
        change={change}
        line={(scope, number, set, buttons) => (
          <>
            <div className="flex items-baseline gap-2">
              <b className="w-4">{number}</b>
              <span className="text-ink-2">of tables like</span>
              <InlineField
                label={`Pattern of scope ${number}`}
                className="min-w-0 flex-1"
                value={scope.like}
                onChange={event => set({ ...scope, like: event.target.value })}
              />
              {buttons}
            </div>
            <Conditions scope={scope} number={number} listId={listId} tables={tables} change={set} />
          </>
        )}
      />
    </>
  )
}

interface ConditionsProps {
  scope: Scope
  number: number
  listId: string
  tables: readonly Dataset[]
  change: (scope: Scope) => void
}

function Conditions({ scope, number, listId, tables, change }: ConditionsProps) {
  const { where } = scope
  const table = tables.find(({ namespace, name }) => matcherOf(scope.like)(pathOf(namespace, name)))
  const expression = asExpression(where, table?.fields ?? [])
  const list = listOf(where)
  if ('expression' in where) {
    return (
      <>
        <Suspense fallback={<div className="h-9" />}>
          <ExpressionField
            label={`Expression of scope ${number}`}
            value={where.expression}
            table={table}
            change={expression => change({ ...scope, where: { expression } })}
          />
        </Suspense>
        <AsConditions
          text={where.expression}
          columns={table?.fields ?? []}
          change={next => change({ ...scope, where: next })}
        />
      </>
    )
  }
  if (!list) return <p className="mt-1 pl-6 font-mono text-[12px]">{printCondition(scope.where)}</p>
  return (
    <ConditionLines
      what={`scope ${number}`}
      list={list}
      listId={listId}
      change={next => change({ ...scope, where: next })}
    >
      <TextButton
        className="ml-4"
        disabled={expression === undefined}
        title={expression === undefined ? 'An expression cannot say all of this.' : undefined}
        onClick={() => change({ ...scope, where: { expression: expression! } })}
      >
        Write an expression
      </TextButton>
    </ConditionLines>
  )
}

interface AsConditionsProps {
  text: string
  columns: Dataset['fields']
  change: (where: Condition) => void
}

/** Back to conditions, where these can say as much; a single one is a list, so that another can be added. */
function AsConditions({ text, columns, change }: AsConditionsProps) {
  const condition = asCondition(text, columns)
  return (
    <p className="ml-6">
      <TextButton
        disabled={condition === undefined}
        onClick={() => change('column' in condition! ? { all: [condition] } : condition!)}
      >
        Use conditions instead
      </TextButton>
      {condition === undefined && (
        <span className="ml-3 text-ink-3">It says more than conditions can, or cannot be read yet.</span>
      )}
    </p>
  )
}
