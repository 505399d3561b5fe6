/** Whom a stand-in app calls when a record has changed, kept over restarts. Signed as Standard Webhooks says. */
import { createHmac, randomUUID } from 'node:crypto'
import { readFileSync, writeFileSync } from 'node:fs'
import { setTimeout as sleep } from 'node:timers/promises'
import type { AppFaults } from './faults.ts'

interface Subscription {
  id: string
  url: string
  secret: string
  object: string
}

const CALL_MS = 5_000
/** As patient apps are: a call that fails is made again, then given up. */
const TRIES = 3

export class StandInWebhooks {
  private readonly file: string
  private readonly faults: () => AppFaults
  private readonly random: () => number
  private subscriptions: Subscription[]
  /** Calls that were answered well, and those that nobody took. */
  readonly told = { taken: 0, refused: 0 }

  constructor(file: string, faults: () => AppFaults, random: () => number) {
    this.file = file
    this.faults = faults
    this.random = random
    this.subscriptions = this.read()
  }

  get count(): number {
    return this.subscriptions.length
  }

  add(asked: Omit<Subscription, 'id'>): Subscription {
    const made = { id: randomUUID(), ...asked }
    this.subscriptions = [...this.subscriptions, made]
    this.write()
    return made
  }

  /** False: there is none. */
  remove(id: string): boolean {
    const rest = this.subscriptions.filter(one => one.id !== id)
    const had = rest.length < this.subscriptions.length
    this.subscriptions = rest
    if (had) this.write()
    return had
  }

  changed(object: string, id: string): void {
    const { hooksLost, hooksTwice } = this.faults()
    for (const one of this.subscriptions) {
      if (one.object !== object || this.random() < hooksLost) continue
      const times = this.random() < hooksTwice ? 2 : 1
      for (let i = 0; i < times; i++) void this.tell(one, JSON.stringify({ object, id }))
    }
  }

  private async tell({ url, secret }: Subscription, body: string): Promise<void> {
    const id = `msg_${randomUUID()}`
    const { hooksLateMs } = this.faults()
    if (hooksLateMs > 0) await sleep(this.random() * hooksLateMs)
    for (let attempt = 1; attempt <= TRIES; attempt++) {
      const at = String(Math.floor(Date.now() / 1000))
      const signature = createHmac('sha256', secret).update(`${id}.${at}.${body}`).digest('base64')
      const answer = await fetch(url, {
        method: 'POST',
        body,
        headers: {
          'Content-Type': 'application/json',
          'webhook-id': id,
          'webhook-timestamp': at,
          'webhook-signature': `v1,${signature}`,
        },
        signal: AbortSignal.timeout(CALL_MS),
      }).catch(() => undefined)
      if (answer?.ok) {
        this.told.taken++
        return
      }
      if (answer) this.told.refused++
      await sleep(200 * attempt)
    }
  }

  private read(): Subscription[] {
    try {
      return JSON.parse(readFileSync(this.file, 'utf8')) as Subscription[]
    } catch {
      return [] // the first time
    }
  }

  private write(): void {
    writeFileSync(this.file, JSON.stringify(this.subscriptions))
  }
}
