/** How the tables of a case are shaped on their way: chosen by a number, so that a case can be told by numbers. */
import type { Condition } from '@tide/core/scope/condition'
import { exactPattern } from '@tide/core/naming/pattern'
import { proposeRules, type NamingTarget } from '@tide/core/naming/propose'
import type { NamingDeed, NamingRule } from '@tide/core/naming/rule'
import type { PlanInput } from '@tide/core/plan/input'
import type { Dataset } from '@tide/core/records/dataset'
import type { LaneRule } from '@tide/core/definition/lane-rule'
import type { ColumnRule } from '@tide/core/shape/column-rule'
import type { Random } from '../soak/random.ts'
import { chance, HOSTILE } from './chance.ts'

export type ShapingOfCase = Pick<PlanInput, 'names' | 'columns' | 'scopes' | 'deletes' | 'lanes'>

/** Whether its tables are there before, with rows of an earlier copy. */
export function isAddedTo(n: number): boolean {
  return chance(n ^ 0xadd).chance(0.3)
}

/** Names, columns, scope and deletions, each left as it is in some of the cases. */
export function shapingOf(
  n: number,
  datasets: readonly Dataset[],
  isText: (table: string, column: string) => boolean,
  target: NamingTarget,
): ShapingOfCase {
  const names = namingRules(n, datasets, target)
  const random = chance(n ^ 0x5eed)
  if (datasets.length === 0 || random.chance(0.4)) return { names }
  const textOf = (dataset: Dataset) =>
    dataset.fields.filter(({ name, notCaptured }) => !notCaptured && isText(dataset.name, name))
  const columns: ColumnRule[] = []
  const scopes: NonNullable<PlanInput['scopes']> = []
  const lanes: LaneRule[] = []
  for (const dataset of datasets) {
    const like = exactPattern(dataset.namespace, dataset.name)
    const likeColumn = (name: string) => exactPattern(dataset.namespace, dataset.name, name)
    const texts = textOf(dataset)
    const free = dataset.fields.filter(({ name }) => !dataset.key.includes(name))
    if (texts.length > 0 && random.chance(0.5))
      columns.push({ like: likeColumn(random.pick(texts).name), does: { mask: 'hash' } })
    if (free.length > 0 && random.chance(0.3))
      columns.push({ like: likeColumn(random.pick(free).name), does: { leave: 'out' } })
    const whole = dataset.fields.filter(({ type, notCaptured }) => type.kind === 'int' && !notCaptured)
    if (whole.length > 0 && random.chance(0.4)) {
      const become = random.pick(['text', 'decimal(38,0)'])
      columns.push({ like: likeColumn(random.pick(whole).name), does: { become } })
    }
    // Behind the others, which it must not take away.
    for (const { name } of texts)
      if (random.chance(0.4)) columns.push({ like: likeColumn(name), does: { limit: 1 + random.below(8) } })
    if (random.chance(0.4))
      columns.push({ like, does: { add: 'added here', constant: random.pick(HOSTILE) } })
    if (texts.length > 0 && random.chance(0.4)) {
      const column = `row[${JSON.stringify(random.pick(texts).name)}]`
      columns.push({
        like,
        does: { add: 'computed here', compute: `${column} == null ? "none" : ${column} + "!"` },
      })
    }
    if (random.chance(0.4)) lanes.push({ like, does: { history: true } })
    const other = otherKey(dataset)
    if (other && random.chance(0.9)) lanes.push({ like, does: { key: other } })
    if (random.chance(0.3)) columns.push({ like, does: { add: 'changed at', metadata: 'committed at' } })
    const lists = dataset.fields.filter(
      ({ type, notCaptured }) => type.kind === 'list' && type.of.kind === 'utf8' && !notCaptured,
    )
    if (lists.length > 0 && random.chance(0.5))
      scopes.push({
        like,
        where: { column: random.pick(lists).name, op: 'contains', value: random.pick(HOSTILE) },
      })
    else if (texts.length > 0 && random.chance(0.4))
      scopes.push({ like, where: anyScope(random, random.pick(texts).name) })
  }
  return { names, columns, scopes, lanes, ...(random.chance(0.3) ? { deletes: { mark: 'gone at' } } : {}) }
}

/** Columns that keep rows apart at the source, beside those by which it tells them. */
function otherKey({ uniques = [], fields, key, tellsBefore }: Dataset): string[] | undefined {
  const known = (name: string) =>
    fields.some(field => field.name === name && !field.nullable && !field.notCaptured)
  const others = uniques.filter(
    ({ columns }) => columns.every(known) && !columns.every(one => key.includes(one)),
  )
  return tellsBefore && others[0]?.columns
}

/** A third of the cases are not renamed, a third by rules of any kind, and a third by those that are proposed. */
function namingRules(n: number, datasets: readonly Dataset[], target: NamingTarget): NamingRule[] {
  const random = chance(n)
  switch (n % 3) {
    case 0:
      return []
    case 1:
      return Array.from({ length: 1 + random.below(3) }, () => anyRule(random, datasets))
    default:
      return proposeRules(datasets, [], 'there', target)
  }
}

function anyScope(random: Random, column: string): Condition {
  const isNull = random.chance(0.5)
  if (random.chance(0.5)) return { column, isNull }
  const has = `has(row[${JSON.stringify(column)}])`
  return { expression: isNull ? `!${has}` : has }
}

function anyRule(random: Random, datasets: readonly Dataset[]): NamingRule {
  const dataset = datasets[random.below(datasets.length)]!
  const field = dataset.fields[random.below(dataset.fields.length)]!
  const names = random.pick(['all', 'tables', 'columns'] as const)
  const like = random.pick([
    undefined,
    '*',
    `*.${exactPattern(field.name)}`,
    exactPattern(dataset.namespace, dataset.name),
  ])
  return { names, ...(like === undefined ? {} : { like }), does: anyDeed(random) }
}

function anyDeed(random: Random): NamingDeed {
  const word = random.pick(HOSTILE.filter(one => one !== '' && !/[\p{Cc}\p{Bidi_Control}]/u.test(one)))
  return random.pick<NamingDeed>([
    { make: 'upper case' },
    { make: 'plain letters' },
    { replace: 'a', by: word },
    { find: '[^a-z]+', by: '_' },
    { prefix: word },
    { suffix: word },
    { shorten: 12 },
  ])
}
