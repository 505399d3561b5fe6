/** Conditions as they are put together on the page: one list, of which all or any must hold. */
import type { Condition } from '@tide/core/scope/condition'

export type Single = Exclude<
  Condition,
  { all: unknown } | { any: unknown } | { not: unknown } | { expression: unknown }
>

export interface ConditionList {
  join: 'all' | 'any'
  parts: Single[]
}

const isSingle = (condition: Condition): condition is Single => 'column' in condition

/** Undefined for a tree that is deeper than a list, which can be read here and not changed. */
export function listOf(condition: Condition): ConditionList | undefined {
  if (isSingle(condition)) return { join: 'all', parts: [condition] }
  const [join, parts] =
    'all' in condition
      ? (['all', condition.all] as const)
      : 'any' in condition
        ? (['any', condition.any] as const)
        : []
  return join && parts.every(isSingle) ? { join, parts } : undefined
}

export function conditionOf({ join, parts }: ConditionList): Condition {
  return join === 'all' ? { all: parts } : { any: parts }
}

export const TESTS = [
  'equals',
  'differs from',
  'is less than',
  'is at most',
  'is more than',
  'is at least',
  'starts with',
  'contains',
  'is one of',
  'is null',
  'is not null',
] as const

export type Test = (typeof TESTS)[number]

export function testOf(single: Single): Test {
  if ('in' in single) return 'is one of'
  return 'isNull' in single ? (single.isNull ? 'is null' : 'is not null') : single.op
}

/** What is compared with, as one text; of a list, its parts between commas. */
export function valueOf(single: Single): string | undefined {
  if ('in' in single) return single.in.join(', ')
  return 'isNull' in single ? undefined : single.value
}

export function singleOf(column: string, test: Test, value: string): Single {
  if (test === 'is null' || test === 'is not null') return { column, isNull: test === 'is null' }
  if (test === 'is one of') return { column, in: value.split(',').map(part => part.trim()) }
  return { column, op: test, value }
}
