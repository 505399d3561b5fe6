import type { LoggedRelation } from '@tide/core/records/relation'
import { decodeRow } from '@tide/core/records/tuple'
import type { Value } from '@tide/core/records/value'
import { setTimeout as sleep } from 'node:timers/promises'
import type { LogReading, LogSide, LogSink } from '../src/contract/source.ts'

export interface Recorded {
  id: string
  start: string
  end: string
  at: number
  events: { op: string; table: string; before?: Value[]; after?: Value[] }[]
}

/** Keeps what a log says, for tests that look at it without a journal. */
export class RecordingSink implements LogSink {
  readonly transactions: Recorded[] = []
  readonly relations: LoggedRelation[] = []
  readonly marks: { position: string; at: number }[] = []
  readonly full = false
  heardAt = 0
  /** What is said to be durable. */
  upTo: string
  private readonly names = new Map<number, string>()
  private open: Recorded | undefined

  constructor(from: string) {
    this.upTo = from
  }

  get rows(): Value[][] {
    return this.transactions.flatMap(({ events }) => events.map(({ before, after }) => after ?? before ?? []))
  }

  relation(relation: LoggedRelation): void {
    this.relations.push(relation)
    this.names.set(relation.id, relation.dataset.name)
  }
  begin(start: string, at: number, id: string): void {
    this.open = { id, start, at, end: '', events: [] }
  }
  insert(relation: number, after: Uint8Array): void {
    this.record(relation, 'insert', { after: decodeRow(after) })
  }
  update(relation: number, before: Uint8Array | null, after: Uint8Array): void {
    this.record(relation, 'update', {
      ...(before ? { before: decodeRow(before) } : {}),
      after: decodeRow(after),
    })
  }
  remove(relation: number, before: Uint8Array): void {
    this.record(relation, 'delete', { before: decodeRow(before) })
  }
  truncate(relation: number): void {
    this.record(relation, 'truncate', {})
  }
  commit(end: string): void {
    this.transactions.push({ ...this.open!, end })
  }
  heard(at: number): void {
    this.heardAt = at
  }
  reached(position: string, at: number): void {
    this.marks.push({ position, at })
  }
  async room(): Promise<void> {}
  durable(): string {
    return this.upTo
  }

  private record(relation: number, op: string, rows: { before?: Value[]; after?: Value[] }): void {
    this.open!.events.push({ op, table: this.names.get(relation)!, ...rows })
  }
}

/** Follows until it is so; fails with what the following says. */
export async function followUntil(
  log: LogSide,
  reader: string,
  reading: LogReading,
  sink: RecordingSink,
  so: () => boolean | Promise<boolean>,
): Promise<void> {
  const ended = new AbortController()
  const following = log.follow(reader, reading, sink, ended.signal)
  let failed: { thrown: unknown } | undefined
  following.catch((thrown: unknown) => (failed = { thrown }))
  try {
    for (let tries = 0; !(await so()); tries++) {
      if (failed) throw failed.thrown
      if (tries > 1500) throw new Error('it did not come to that')
      await sleep(10)
    }
  } finally {
    ended.abort()
    await following.catch(() => {})
  }
  if (failed) throw failed.thrown
}
