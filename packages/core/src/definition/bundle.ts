/** Bundles: tables that make one business object together, such as a dispatch with its lines, chosen like a table. */
import { Type, type Static } from 'typebox'
import { datasetId, printName, type Dataset, type DatasetName } from '../records/dataset.ts'
import { shownText } from './id.ts'

const name = Type.String({ maxLength: 300 })
const table = Type.Object({ namespace: name, name }, { additionalProperties: false })

export const bundleSchema = Type.Object(
  {
    name: shownText('The name of a bundle', 120, 1),
    main: table,
    /** The others, each with pairs of columns that are equal: its own, and the main table's. */
    with: Type.Array(
      Type.Object(
        { table, on: Type.Array(Type.Tuple([name, name]), { minItems: 1, maxItems: 32 }) },
        { additionalProperties: false },
      ),
      { maxItems: 100 },
    ),
  },
  { additionalProperties: false },
)

export type Bundle = Static<typeof bundleSchema>

/** The main table first. */
export function tablesOf({ main, with: others }: Bundle): DatasetName[] {
  return [main, ...others.map(({ table }) => table)]
}

/** A table that can go with a main one. */
export interface Related {
  table: DatasetName
  on: [string, string][]
  /** Its rows are parts of a row of the main table; else the main table refers to it. */
  isPart: boolean
}

/** By foreign keys; parts come first. */
export function relatedTo(
  main: Pick<Dataset, 'namespace' | 'name' | 'refers'>,
  datasets: readonly Dataset[],
): Related[] {
  const id = datasetId({ namespace: main.namespace, name: main.name })
  const parts = datasets.flatMap(({ namespace, name, refers = [] }) =>
    refers
      .filter(({ to }) => datasetId(to) === id)
      .map(({ columns, by }): Related => ({
        table: { namespace, name },
        on: columns.map((column, i) => [column, by[i]!]),
        isPart: true,
      })),
  )
  const others = (main.refers ?? []).map(({ to, columns, by }): Related => ({
    table: to,
    on: by.map((column, i) => [column, columns[i]!]),
    isPart: false,
  }))
  const seen = new Set([id])
  return [...parts, ...others].filter(({ table }) => {
    const other = datasetId(table)
    return !seen.has(other) && seen.add(other)
  })
}

/** The tables that others can go with, in one pass over all of them. */
export function mainsOf<T extends Pick<Dataset, 'namespace' | 'name' | 'refers'>>(
  datasets: readonly T[],
): T[] {
  const related = new Set<string>()
  for (const { namespace, name, refers = [] } of datasets) {
    const id = datasetId({ namespace, name })
    for (const { to } of refers) {
      const other = datasetId(to)
      if (other === id) continue
      related.add(id)
      related.add(other)
    }
  }
  if (related.size === 0) return []
  return datasets.filter(({ namespace, name }) => related.has(datasetId({ namespace, name })))
}

/** Columns that a bundle joins by and that are not there, in words. */
export function missingOf({ main, with: others }: Bundle, datasets: readonly Dataset[]): string[] {
  const fieldsOf = (table: DatasetName) =>
    datasets.find(one => datasetId(one) === datasetId(table))?.fields.map(({ name }) => name)
  const lacks = (table: DatasetName, column: string) => {
    const fields = fieldsOf(table)
    return fields && !fields.includes(column) ? [`${printName(table)}.${column}`] : []
  }
  return others.flatMap(({ table, on }) =>
    on.flatMap(([own, other]) => [...lacks(table, own), ...lacks(main, other)]),
  )
}
