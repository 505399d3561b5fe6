/** The connection that a question goes over: ended, here and at the system, when a limit is reached. */
import type { Failure } from '@tide/core/failure'
import type { Duplex } from 'node:stream'
import type { QueryLimits } from '../contract/session.ts'
import { left, tooLong } from './refusal.ts'

/** The system ends it by itself when time is up; we only when it does not. */
const GRACE_MS = 500
/** What comes in beside the values: names, lengths, a row that is not whole yet. */
const BESIDE_VALUES = 2 ** 20

/** Without `maxBytes`, as much as comes. */
export type LinkLimits = Pick<QueryLimits, 'timeoutMs' | 'signal'> & Partial<Pick<QueryLimits, 'maxBytes'>>

export class QuestionLink {
  /** More came in than may, and the connection is gone. */
  over = false
  private readonly limits: LinkLimits
  private readonly stream: Duplex
  private readonly cancel: () => Promise<unknown>
  private readonly timer: NodeJS.Timeout
  private readonly leave = () => this.end(left())
  private ended: Failure | undefined
  private bytes = 0

  /** `stream`: what the driver reads from. `cancel`: ends at the system whatever runs there. */
  constructor(limits: LinkLimits, stream: Duplex, cancel: () => Promise<unknown>) {
    this.limits = limits
    this.stream = stream
    this.cancel = cancel
    this.timer = setTimeout(() => this.end(tooLong(limits)), limits.timeoutMs + GRACE_MS)
    limits.signal.addEventListener('abort', this.leave)
    stream.on('data', (part: Buffer) => this.count(part.length))
    if (limits.signal.aborted) this.leave()
  }

  /** Why it was ended by us, if it was. */
  get failure(): Failure | undefined {
    return this.ended
  }

  close(): void {
    clearTimeout(this.timer)
    this.limits.signal.removeEventListener('abort', this.leave)
    this.stream.destroy()
  }

  private count(bytes: number): void {
    this.bytes += bytes
    if (this.bytes <= (this.limits.maxBytes ?? Infinity) + BESIDE_VALUES) return
    this.over = true
    this.cut()
  }

  private end(why: Failure): void {
    this.ended ??= why
    this.cut()
  }

  private cut(): void {
    void this.cancel().catch(() => {}) // the system notices by itself when nobody reads any more
    this.stream.destroy(new Error('ended by us'))
  }
}
