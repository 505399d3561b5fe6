import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import { PassThrough } from 'node:stream'
import type { ClientBase, Submittable } from 'pg'
import { copyOut } from '../src/postgres/copy-out.ts'

const message = (type: string, payload: Buffer) => {
  const head = Buffer.from(`${type}    `)
  head.writeUInt32BE(payload.length + 4, 1)
  return Buffer.concat([head, payload])
}
const row = fc.uint8Array({ maxLength: 40 }).map(bytes => message('d', Buffer.from(bytes)))
const beside = fc
  .constantFrom('N', 'S')
  .chain(type => fc.uint8Array({ maxLength: 9 }).map(bytes => message(type, Buffer.from(bytes))))
const END = [
  message('c', Buffer.alloc(0)),
  message('C', Buffer.from('COPY 7\0')),
  message('Z', Buffer.from('I')),
]

/** What a driver tells the query that is under way. */
interface Heard {
  handleError(error: Error): void
  handleCommandComplete(message: { text: string }): void
  handleReadyForQuery(): void
}

/** The driver as far as a query meets it; keeps what it reads itself. */
function driver() {
  const stream = new PassThrough()
  const read: Buffer[] = []
  stream.on('data', (part: Buffer) => read.push(Buffer.from(part)))
  let asked: Submittable & Heard
  const client = {
    query: (query: typeof asked) => {
      asked = query
      query.submit({ stream, query: () => {} } as never)
      return query
    },
  }
  return { stream, read, client: client as unknown as ClientBase, asked: () => asked }
}

test('rows come whole wherever their messages are cut, and the driver reads on behind them', async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.array(fc.oneof({ weight: 5, arbitrary: row }, beside), { maxLength: 30 }),
      fc.array(fc.nat(1500), { maxLength: 12 }),
      fc.boolean(),
      async (messages, cuts, fails) => {
        const end = fails ? [message('E', Buffer.from('SERROR\0\0')), END[2]!] : END
        const all = Buffer.concat([message('H', Buffer.from('\0\0\0')), ...messages, ...end])
        const places = [0, ...cuts.map(cut => cut % all.length), all.length].sort((a, b) => a - b)
        const { stream, read, client, asked } = driver()
        const rows = copyOut(client, 'COPY t TO STDOUT')
        const got: Buffer[] = []
        const reading = (async () => {
          for await (const part of rows) got.push(Buffer.from(part))
        })()
        reading.catch(() => {}) // awaited below
        for (let i = 1; i < places.length; i++) {
          stream.write(Buffer.from(all.subarray(places[i - 1], places[i])))
          if (i % 3 === 0) await new Promise(setImmediate)
        }
        await new Promise(setImmediate)
        await new Promise(setImmediate)
        expect(Buffer.concat(read)).toEqual(Buffer.concat(end))
        if (fails) asked().handleError(new Error('refused'))
        else {
          asked().handleCommandComplete({ text: 'COPY 7' })
          asked().handleReadyForQuery()
        }
        if (fails) await expect(reading).rejects.toThrow('refused')
        else await reading
        const payloads = messages.filter(one => one[0] === 'd'.charCodeAt(0)).map(one => one.subarray(5))
        expect(Buffer.concat(got)).toEqual(Buffer.concat(payloads))
        if (!fails) expect(rows.rowCount).toBe(7)
      },
    ),
    { numRuns: 300 },
  )
})
