/** What is to be said of the names of schemas, and of the rules that make names. */
import type { Namer } from '../naming/namer.ts'
import { printDeed, printWhich } from '../naming/rule.ts'
import type { Dataset } from '../records/dataset.ts'
import type { PlanInput } from './input.ts'
import type { PlanNote } from './note.ts'

/** Schema names that the target does not take, each once. */
export function refuseSchemas(
  datasets: readonly Dataset[],
  namer: Namer,
  { noSchema, nameKey }: PlanInput['profile'],
  notes: PlanNote[],
): void {
  const told = new Set<string>()
  for (const dataset of datasets) {
    const named = namer.schema(dataset)
    const { name } = named
    const taken = noSchema && nameKey(noSchema.name) === nameKey(name) ? noSchema.because : undefined
    const refused = named.refused ?? taken
    if (!refused || told.has(name)) continue
    told.add(name)
    notes.push({
      level: 'refused',
      message: `The target will not take the schema name ${name}: ${refused}.`,
      remedy: 'Name another schema, or let a rule name it.',
      section: 'to',
    })
  }
}

/** Rules that cannot be followed, and those that change no name of the chosen tables. */
export function noteRules(
  { names }: Pick<PlanInput, 'names'>,
  namer: Namer,
  datasets: readonly Dataset[],
  notes: PlanNote[],
): void {
  for (const { rule, message, remedy } of namer.faults)
    notes.push({ level: 'refused', message: `Naming rule ${rule + 1}: ${message}`, remedy, section: 'names' })
  const faulty = new Set(namer.faults.map(({ rule }) => rule))
  const idle = names.flatMap((rule, index) => (faulty.has(index) ? [] : [{ rule, index }]))
  if (idle.length === 0 || datasets.length === 0) return
  const working = rulesAtWork(datasets, namer, idle.length)
  for (const { rule, index } of idle) {
    if (working.has(index)) continue
    notes.push({
      level: 'warning',
      message: `Naming rule ${index + 1} changes no name: ${printWhich(rule)}, ${printDeed(rule.does)}.`,
      remedy: 'It stays for tables that come later; correct or remove it if that is not what it is for.',
      section: 'names',
    })
  }
}

/** Indexes of the rules that change something; `enough` of them are all there can be. */
function rulesAtWork(datasets: readonly Dataset[], namer: Namer, enough: number): Set<number> {
  const working = new Set<number>()
  for (const dataset of datasets) {
    for (const { by } of [
      namer.schema(dataset),
      namer.table(dataset),
      ...dataset.fields.map(({ name }) => namer.column(dataset, name)),
    ])
      for (const index of by) working.add(index)
    if (working.size === enough) break
  }
  return working
}
