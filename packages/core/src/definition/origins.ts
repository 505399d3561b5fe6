/** Where a pipeline's records come from: one source, or several of one shape. */
import type { Definition, ReplicateDefinition } from './definition.ts'

/** One of the sources. `tag` says of each row at the target where it is from; empty where there is only one source. */
export interface Origin {
  /** Its id; empty: none is chosen yet. */
  connection: string
  tag: string
}

/** A definition with one source. */
export type OneSource = ReplicateDefinition & { from: string }

/** In the order in which they were named. */
export function originsOf({ from }: Pick<Definition, 'from'>): Origin[] {
  return typeof from === 'string' ? [{ connection: from, tag: '' }] : from
}

/** What the definition says of one origin alone. */
export function ofOrigin<T extends Definition>(
  definition: T,
  { connection }: Pick<Origin, 'connection'>,
): T & { from: string } {
  return { ...definition, from: connection }
}

/** The connection that a lane is read from. */
export function connectionOf(
  definition: Pick<Definition, 'from'>,
  { origin = '' }: { origin?: string },
): string {
  const found = originsOf(definition).find(({ tag }) => tag === origin)
  if (!found) throw new Error(`there is no origin “${origin}”`)
  return found.connection
}

/** Several origins, or the one that is left. */
export function fromOf(origins: readonly Origin[]): ReplicateDefinition['from'] {
  return origins.length === 1 ? origins[0]!.connection : [...origins]
}

/** A tag made of a connection's name that none of the others has. */
export function tagFor(name: string, others: readonly Pick<Origin, 'tag'>[]): string {
  const base = name.trim().toLowerCase().slice(0, 50) || 'origin'
  const taken = new Set(others.map(({ tag }) => tag))
  for (let n = 1; ; n++) {
    const tag = n === 1 ? base : `${base} ${n}`
    if (!taken.has(tag)) return tag
  }
}
