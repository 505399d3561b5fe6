/**
 * Rows of a `COPY … TO STDOUT`, read from the connection itself: each comes as a message of its own, and a reader that makes
 * an object of every one spends more on that than the server on the row.
 * https://www.postgresql.org/docs/current/protocol-flow.html#PROTOCOL-COPY
 */
import type { ClientBase, Connection, Submittable } from 'pg'
import type { Duplex } from 'node:stream'

const [COPY_DATA, COPY_DONE, ERROR] = Buffer.from('dcE')
/** Of a message: what it is, and its length, itself included. */
const HEADER = 5
/** What may wait to be taken before the server is no longer listened to. */
const MOST_WAITING = 1024 * 1024

type Listener = (bytes: Buffer) => void

class CopyOut implements Submittable {
  rowCount = 0
  private readonly text: string
  private stream: Duplex | undefined
  /** The driver's own reader, which does not listen meanwhile. */
  private driver: Listener | undefined
  /** The beginning of a header that is not whole yet. */
  private begun: Buffer = Buffer.alloc(0)
  /** Of the message under way, how many bytes are to come. */
  private left = 0
  private copying = false
  private parts: Buffer[] = []
  private waiting = 0
  private over = false
  private failed: { thrown: unknown } | undefined
  private wake: (() => void) | undefined

  constructor(text: string) {
    this.text = text
  }

  submit(connection: Connection): void {
    this.stream = connection.stream as Duplex
    this.driver = this.stream.listeners('data')[0] as Listener
    this.stream.off('data', this.driver)
    this.stream.on('data', this.take)
    connection.query(this.text)
  }

  handleError(error: unknown): void {
    this.detach(Buffer.alloc(0))
    this.failed = { thrown: error }
    this.wake?.()
  }

  handleCommandComplete({ text }: { text: string }): void {
    this.rowCount = Number(/COPY (\d+)/.exec(text)?.[1] ?? 0)
  }

  handleReadyForQuery(): void {
    this.over = true
    this.wake?.()
  }

  /** Ends when the server is ready for the next query. */
  async *[Symbol.asyncIterator](): AsyncGenerator<Buffer> {
    for (;;) {
      const parts = this.parts
      this.parts = []
      this.waiting = 0
      if (this.driver) this.stream?.resume()
      yield* parts
      if (this.parts.length > 0) continue
      if (this.failed) throw this.failed.thrown
      if (this.over) return
      await new Promise<void>(resolve => (this.wake = resolve))
      this.wake = undefined
    }
  }

  /** What rows hold moves to the front of the bytes that came, over the headers between. */
  private readonly take: Listener = came => {
    const bytes = this.begun.length > 0 ? Buffer.concat([this.begun, came]) : came
    this.begun = Buffer.alloc(0)
    let [at, end] = [0, 0]
    while (at < bytes.length) {
      if (this.left === 0) {
        if (bytes.length - at < HEADER) {
          this.begun = Buffer.from(bytes.subarray(at))
          break
        }
        const type = bytes[at]
        if (type === ERROR || type === COPY_DONE) {
          this.give(bytes.subarray(0, end))
          return this.detach(bytes.subarray(at))
        }
        this.copying = type === COPY_DATA
        this.left = bytes.readUInt32BE(at + 1) - 4
        at += HEADER
      }
      const piece = Math.min(this.left, bytes.length - at)
      if (this.copying) {
        bytes.copyWithin(end, at, at + piece)
        end += piece
      }
      at += piece
      this.left -= piece
    }
    this.give(bytes.subarray(0, end))
  }

  private give(part: Buffer): void {
    if (part.length === 0) return
    this.parts.push(part)
    this.waiting += part.length
    if (this.waiting > MOST_WAITING) this.stream!.pause()
    this.wake?.()
  }

  /** The driver reads on from here. */
  private detach(rest: Buffer): void {
    const { stream, driver } = this
    if (!stream || !driver) return
    this.driver = undefined
    stream.off('data', this.take)
    stream.on('data', driver)
    stream.resume()
    if (rest.length > 0) driver(rest)
  }
}

/** The rows as they come, in parts of any length; `rowCount` is known when they have ended. */
export function copyOut(client: ClientBase, text: string): AsyncIterable<Buffer> & { rowCount: number } {
  return client.query(new CopyOut(text))
}
