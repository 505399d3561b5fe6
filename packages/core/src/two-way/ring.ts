/** Pipelines that together could carry one record round, back to where it came from. */
import type { Definition } from '../definition/definition.ts'
import { printName } from '../records/dataset.ts'

interface Way {
  from: string
  to: string
  by: string
}

/** Names of the other pipelines of a ring that the definition would close, in their order; undefined: there is none. */
export function ringOf(definition: Definition, others: readonly Definition[]): string[] | undefined {
  const ways = others.flatMap(waysOf)
  for (const { from, to } of waysOf(definition)) {
    const by = pathOf(ways, to, from)
    // Another one between the same two places is told of by its fields.
    if (by && by.length > 1) return by
  }
  return undefined
}

/** Along what a record goes, from place to place. */
function waysOf(definition: Definition): Way[] {
  const { name: by } = definition
  const place = (connection: string, what: string) => JSON.stringify([connection, what])
  if (definition.shape === 'two-way')
    return definition.lanes.flatMap(lane => {
      const [a, b] = [place(definition.from, lane.a), place(definition.to, lane.b)]
      return [
        { from: a, to: b, by },
        { from: b, to: a, by },
      ]
    })
  if (definition.shape !== 'send' || !definition.what || !('table' in definition.what)) return []
  const from = place(definition.from, printName(definition.what.table))
  return [{ from, to: place(definition.to, definition.object), by }]
}

/** The shortest way from one place to another, by the names of its pipelines. */
function pathOf(ways: readonly Way[], from: string, to: string): string[] | undefined {
  const seen = new Set([from])
  let open: { at: string; by: string[] }[] = [{ at: from, by: [] }]
  while (open.length > 0) {
    const next: typeof open = []
    for (const { at, by } of open)
      for (const way of ways) {
        if (way.from !== at || seen.has(way.to) || by.includes(way.by)) continue
        if (way.to === to) return [...by, way.by]
        seen.add(way.to)
        next.push({ at: way.to, by: [...by, way.by] })
      }
    open = next
  }
  return undefined
}
