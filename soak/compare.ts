export interface Difference {
  lost: number
  doubled: number
  different: number
}

export type Rows = (string | null)[][]

/** What a target holds against what its source holds. Rows that should not be there count as different. */
export function compare(source: Rows, target: Rows, key: number): Difference {
  const idOf = (row: (string | null)[]) => JSON.stringify(row.slice(0, key))
  const there = new Map<string, string>()
  let doubled = 0
  for (const row of target) {
    if (there.has(idOf(row))) doubled++
    there.set(idOf(row), JSON.stringify(row))
  }
  let [lost, different] = [0, 0]
  for (const row of source) {
    const found = there.get(idOf(row))
    if (found === undefined) lost++
    else if (found !== JSON.stringify(row)) different++
    there.delete(idOf(row))
  }
  return { lost, doubled, different: different + there.size }
}
