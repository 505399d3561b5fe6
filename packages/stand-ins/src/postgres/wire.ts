/**
 * Cutting the PostgreSQL wire protocol into messages and writing the few that the embedded database leaves to us.
 * https://www.postgresql.org/docs/current/protocol-message-formats.html
 */

/** Cuts a stream of bytes into messages: untyped ones until `started`, then typed ones. */
export class MessageCutter {
  started = false
  private buffer: Buffer = Buffer.alloc(0)

  /** Adds bytes and takes out the messages that are complete. */
  take(bytes: Buffer): Buffer[] {
    this.buffer = this.buffer.length === 0 ? bytes : Buffer.concat([this.buffer, bytes])
    const messages: Buffer[] = []
    for (;;) {
      const typed = this.started ? 1 : 0
      if (this.buffer.length < typed + 4) return messages
      const length = typed + this.buffer.readInt32BE(typed)
      if (this.buffer.length < length) return messages
      messages.push(this.buffer.subarray(0, length))
      this.buffer = this.buffer.subarray(length)
    }
  }
}

export const SSL_REQUEST = 80877103
export const GSS_REQUEST = 80877104
export const CANCEL_REQUEST = 80877102

/** The parameters of a StartupMessage. */
export function startupParameters(message: Buffer): Map<string, string> {
  const parts = message.subarray(8).toString('utf8').split('\0')
  const parameters = new Map<string, string>()
  for (let i = 0; i + 1 < parts.length && parts[i] !== ''; i += 2) parameters.set(parts[i]!, parts[i + 1]!)
  return parameters
}

function message(type: string, body: Buffer): Buffer {
  const head = Buffer.alloc(5)
  head.write(type, 0, 'latin1')
  head.writeInt32BE(body.length + 4, 1)
  return Buffer.concat([head, body])
}

/** AuthenticationCleartextPassword. */
export const ASK_PASSWORD = message('R', Buffer.from([0, 0, 0, 3]))

/** ErrorResponse with severity FATAL. */
export function fatal(code: string, text: string): Buffer {
  return message('E', Buffer.from(`SFATAL\0VFATAL\0C${code}\0M${text}\0\0`))
}

/** ReadyForQuery status `I`: idle, in no transaction. Looked for at the end of what the database answered. */
export function transactionStatus(answer: Buffer): string | undefined {
  const at = answer.length - 6
  return at >= 0 && answer[at] === 0x5a && answer.readInt32BE(at + 1) === 5
    ? String.fromCharCode(answer[at + 5]!)
    : undefined
}
