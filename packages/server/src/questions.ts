/** Questions of people to systems: few at once for each connection, the others wait in line, and all can be ended. */
import type { QueryLimits } from '@tide/connectors/contract/session'
import { left } from '@tide/connectors/question/refusal'
import type { QuestionTurn } from '@tide/core/api/browse'
import { Failure } from '@tide/core/failure'

const MOST_WAITING = 20
const MAX_BYTES = 8 * 2 ** 20

interface Waiting {
  ticket: string | undefined
  begin(): void
}

interface Line {
  running: number
  waiting: Waiting[]
}

export interface QuestionAsked {
  /** Those of one line wait for each other. */
  line: string
  atOnce: number
  /** By which whoever asks can learn how long the line is. */
  ticket?: string | undefined
  maxRows: number
  timeoutMs: number
  /** Aborts when nobody waits for the answer any more. */
  signal: AbortSignal
}

export class Questions {
  private readonly lines = new Map<string, Line>()
  private readonly running = new Set<string>()
  private readonly closing = new AbortController()

  /** Waits for its turn, then asks. Time in line does not count. */
  async ask<T>(asked: QuestionAsked, body: (limits: QueryLimits) => Promise<T>): Promise<T> {
    const { line: name, ticket, maxRows, timeoutMs } = asked
    const signal = AbortSignal.any([asked.signal, this.closing.signal])
    const line = this.lines.get(name) ?? { running: 0, waiting: [] }
    this.lines.set(name, line)
    try {
      await turnIn(line, asked, signal)
    } catch (error) {
      this.forgetEmpty(name, line)
      throw error
    }
    if (ticket !== undefined) this.running.add(ticket)
    try {
      return await body({ maxRows, maxBytes: MAX_BYTES, timeoutMs, signal })
    } finally {
      if (ticket !== undefined) this.running.delete(ticket)
      const next = line.waiting.shift()
      // The turn is handed over, so that nobody slips in between.
      if (next) next.begin()
      else line.running--
      this.forgetEmpty(name, line)
    }
  }

  /** Undefined when nobody asks with this ticket. */
  turn(ticket: string): QuestionTurn | undefined {
    if (this.running.has(ticket)) return { ahead: 0, running: true }
    for (const { waiting } of this.lines.values()) {
      const ahead = waiting.findIndex(one => one.ticket === ticket)
      if (ahead >= 0) return { ahead, running: false }
    }
    return undefined
  }

  /** Ends all that run, and all that wait. */
  close(): void {
    this.closing.abort()
  }

  private forgetEmpty(name: string, line: Line): void {
    if (line.running === 0 && line.waiting.length === 0) this.lines.delete(name)
  }
}

function turnIn(line: Line, { ticket, atOnce }: QuestionAsked, signal: AbortSignal): Promise<void> {
  if (signal.aborted) return Promise.reject(left())
  if (line.running < atOnce) {
    line.running++
    return Promise.resolve()
  }
  if (line.waiting.length >= MOST_WAITING) {
    const message = `${MOST_WAITING} queries wait for this connection already.`
    return Promise.reject(new Failure('transient', message, 'Try again when they are through.'))
  }
  return new Promise((resolve, reject) => {
    const leave = () => {
      line.waiting.splice(line.waiting.indexOf(one), 1)
      reject(left())
    }
    const one: Waiting = {
      ticket,
      begin: () => {
        signal.removeEventListener('abort', leave)
        resolve()
      },
    }
    line.waiting.push(one)
    signal.addEventListener('abort', leave, { once: true })
  })
}
