/** Which tables of a source take part: ticked and taken out by hand, else by patterns, of which the last that matches decides. */
import { matcherOf, pathOf } from '../naming/pattern.ts'
import { datasetId, type Dataset, type DatasetName } from '../records/dataset.ts'
import { tablesOf } from './bundle.ts'
import type { ReplicateDefinition } from './definition.ts'

/** Why a table takes part or not; `pattern`: the index of the one that decided it; `bundle`: a name. */
export type Decision = { takesPart: boolean } & (
  { by: 'hand' | 'nothing' } | { by: 'pattern'; pattern: number } | { by: 'bundle'; bundle: string }
)

export type Choice = Pick<ReplicateDefinition, 'tables' | 'without' | 'patterns' | 'bundles'>

/** Views are chosen by hand alone: patterns are about tables. */
export function chooser({
  tables,
  without = [],
  patterns = [],
  bundles = [],
}: Choice): (table: DatasetName & Partial<Pick<Dataset, 'kind'>>) => Decision {
  const ticked = new Set(tables.map(datasetId))
  const out = new Set(without.map(datasetId))
  const bundled = new Map(
    bundles.flatMap(bundle => tablesOf(bundle).map(table => [datasetId(table), bundle.name])),
  )
  const matchers = patterns.map(({ like }) => matcherOf(like))
  return table => {
    const id = datasetId(table)
    if (ticked.has(id)) return { takesPart: true, by: 'hand' }
    if (out.has(id)) return { takesPart: false, by: 'hand' }
    const bundle = bundled.get(id)
    if (bundle !== undefined) return { takesPart: true, by: 'bundle', bundle }
    if (table.kind === 'view') return { takesPart: false, by: 'nothing' }
    const path = pathOf(table.namespace, table.name)
    const pattern = matchers.findLastIndex(matches => matches(path))
    if (pattern < 0) return { takesPart: false, by: 'nothing' }
    return { takesPart: patterns[pattern]!.take === 'in', by: 'pattern', pattern }
  }
}

/** The tables that take part: those that are named, in their order, also when they are not there any more, then the others. */
export function chosenTables(choice: Choice, source: readonly Dataset[]): DatasetName[] {
  const decide = chooser(choice)
  const named = new Map(choice.tables.map(table => [datasetId(table), table]))
  for (const table of (choice.bundles ?? []).flatMap(tablesOf))
    if (decide(table).takesPart) named.set(datasetId(table), named.get(datasetId(table)) ?? table)
  const others = source.filter(table => {
    const { takesPart, by } = decide(table)
    return takesPart && by === 'pattern'
  })
  return [...named.values(), ...others].map(({ namespace, name }) => ({ namespace, name }))
}

/** By pattern, how many tables it decides. */
export function decidedBy(choice: Choice, source: readonly Dataset[]): number[] {
  const decide = chooser(choice)
  const counts = (choice.patterns ?? []).map(() => 0)
  for (const table of source) {
    const decision = decide(table)
    if (decision.by === 'pattern') counts[decision.pattern]!++
  }
  return counts
}

/** The choice with these tables in it or out of it; what the patterns say anyway need not be said by hand. */
export function withChosen<T extends Choice>(
  choice: T,
  touched: readonly (DatasetName & Partial<Pick<Dataset, 'kind'>>)[],
  takePart: boolean,
): T {
  const ids = new Set(touched.map(datasetId))
  const rest = (of: readonly DatasetName[] = []) => of.filter(table => !ids.has(datasetId(table)))
  const cleared = { ...choice, tables: rest(choice.tables), without: rest(choice.without) }
  const decide = chooser(cleared)
  const byHand = touched
    .filter(table => decide(table).takesPart !== takePart)
    .map(({ namespace, name }) => ({ namespace, name }))
  const tables = takePart ? [...cleared.tables, ...byHand] : cleared.tables
  const without = takePart ? cleared.without : [...cleared.without, ...byHand]
  return { ...choice, tables, ...(without.length > 0 || choice.without ? { without } : {}) }
}
