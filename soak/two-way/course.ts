/** The course of a soak: people edit on both sides while whatever keeps them in step is killed and troubled; then all must be as people left it. */
import { once } from 'node:events'
import type { Random } from '../random.ts'
import type { Syncers } from './syncers.ts'

export interface Faulted {
  faults: number
  edits: number
  /** Records that are on both sides at the end. */
  pairs: number
  /** Records beside the one other half. */
  doubled: number
  /** Records without the other half. */
  lost: number
  /** Fields that the two halves say differently, or that do not say what was written last. */
  different: number
  /** Writes after everything was quiet. */
  echoes: number
  /** The first of what is wrong, in words. */
  wrong: string[]
}

export type Looked = Pick<Faulted, 'pairs' | 'doubled' | 'lost' | 'different' | 'wrong'>

export interface People {
  edits: number
  work(signal: AbortSignal): Promise<void>
  /** By the systems' own records. */
  looked(): Promise<Looked> | Looked
  /** Another text after every write of ours. */
  writes(): Promise<string> | string
}

export interface Troubled {
  syncers: Syncers
  people: People
  /** Troubles the systems for a while; returns whether the process is to be killed. */
  trouble(): Promise<boolean>
  /** All is well from now on. */
  calm(): void
}

export const sleep = (milliseconds: number) => new Promise(resolve => setTimeout(resolve, milliseconds))

export async function course(faults: number, { syncers, people, trouble, calm }: Troubled): Promise<Faulted> {
  const over = new AbortController()
  try {
    const editing = people.work(over.signal)
    let syncer = await syncers.begin(false)
    for (let i = 0; i < faults; i++) {
      if (!(await trouble())) continue
      await syncers.kill(syncer)
      calm()
      syncer = await syncers.begin(false)
    }
    over.abort()
    await editing
    calm()
    await syncers.kill(syncer)
    const through = await syncers.begin(true)
    const result: Faulted = { faults, ...(await people.looked()), edits: people.edits, echoes: 0 }
    await syncers.said(through, 'quiet')
    const before = await people.writes()
    Object.assign(result, await people.looked())
    if (through.exitCode === null) await once(through, 'exit')
    if (through.exitCode !== 0) result.wrong.push(`the last run ended with ${through.exitCode}`)
    if ((await people.writes()) !== before || through.exitCode !== 0) result.echoes++
    return result
  } finally {
    over.abort()
    syncers.end()
  }
}

/** Counts what is wrong, and says of the first what it is. */
export class Findings {
  readonly found: Looked = { pairs: 0, doubled: 0, lost: 0, different: 0, wrong: [] }

  add(kind: 'doubled' | 'lost' | 'different', what: string): void {
    this.found[kind]++
    if (this.found.wrong.length < 10) this.found.wrong.push(`${kind}: ${what}`)
  }
}

/** One of several kinds of trouble of an app, or none. */
export function appTrouble(random: Random) {
  const share = 0.1 + random.below(5) / 10
  const kinds = [
    { lost: share },
    { failing: share },
    { busy: share },
    { lost: 0.2, failing: 0.2, busy: 0.2, hooksLost: 0.5, hooksTwice: 0.5, hooksLateMs: 2000 },
    { html: true },
  ]
  return random.below(3) === 0 ? {} : random.pick(kinds)
}
