import type { Compared } from './world.ts'

export interface Difference {
  lost: number
  doubled: number
  different: number
  /** Some of them, for whoever looks into it. */
  examples: string[]
}

export type Rows = (string | null)[][]

/** What a target holds against what its source holds. Rows that should not be there count as different. */
export function compare(source: Rows, target: Rows, table: Compared): Difference {
  const doubles = table.doubles?.map(name => table.columns.indexOf(name)) ?? []
  const textOf = (row: (string | null)[]) =>
    JSON.stringify(row.map((value, i) => (value !== null && doubles.includes(i) ? Number(value) : value)))
  const idOf = (row: (string | null)[]) => JSON.stringify(row.slice(0, table.key))
  const there = new Map<string, string>()
  const difference: Difference = { lost: 0, doubled: 0, different: 0, examples: [] }
  const count = (kind: 'lost' | 'doubled' | 'different', what: string) => {
    difference[kind]++
    if (difference.examples.length < 5) difference.examples.push(`${kind}: ${what}`)
  }
  for (const row of target) {
    if (there.has(idOf(row))) count('doubled', textOf(row))
    there.set(idOf(row), textOf(row))
  }
  for (const row of source) {
    const found = there.get(idOf(row))
    if (found === undefined) count('lost', textOf(row))
    else if (found !== textOf(row)) count('different', `${textOf(row)} became ${found}`)
    there.delete(idOf(row))
  }
  for (const row of there.values()) count('different', `${row} should not be there`)
  return difference
}
