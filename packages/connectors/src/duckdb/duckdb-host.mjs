// @ts-check
// Holds one DuckDB file in a process of its own: what crashes it, or takes all memory, takes nothing else along
// (docs/decisions/0016). Told what to do by `host.ts`; ends with its starter.
import { DuckDBInstance } from '@duckdb/node-api'

/** Beyond this, questions are interrupted; beyond the second, the process ends. The warehouse's own work stays far below. */
const QUESTIONS_UP_TO_BYTES = 1.5 * 2 ** 30
const ENDS_AT_BYTES = 3 * 2 ** 30
const LOOK_MS = 50
/** About as much goes into one batch of a stream. */
const BATCH_BYTES = 4 * 2 ** 20

/** @typedef {import('@duckdb/node-api').DuckDBConnection} Connection */

/** @type {DuckDBInstance} */
let instance
/** @type {Map<number, Connection>} */
const connections = new Map()
/** Those with a question under way, and which of them had to be interrupted for want of memory. */
const asking = new Map()
let numbers = 0

/** @param {number} number */
function at(number) {
  const connection = connections.get(number)
  if (!connection) throw new Error('the connection is not there any more')
  return connection
}

/** @param {unknown} value */
function plain(value) {
  return value === null || ['string', 'number', 'boolean'].includes(typeof value) ? value : String(value)
}

/** Interrupted when it takes too much memory. @template T @param {number} connection @param {() => Promise<T>} question */
async function watched(connection, question) {
  asking.set(connection, '')
  try {
    return await question()
  } catch (error) {
    if (asking.get(connection) === 'memory')
      throw new Error('Out of Memory Error: the question took too much')
    throw error
  } finally {
    asking.delete(connection)
  }
}

/** @type {Record<string, (asked: any) => unknown>} */
const DO = {
  open: async ({ file, settings, statements }) => {
    instance = await DuckDBInstance.create(file, settings)
    const connection = await instance.connect()
    for (const sql of statements) await connection.run(sql)
    connection.disconnectSync()
  },
  connect: async () => {
    numbers++
    const number = numbers
    connections.set(number, await instance.connect())
    return number
  },
  disconnect: ({ connection }) => {
    at(connection).disconnectSync()
    connections.delete(connection)
    streams.delete(connection)
  },
  run: async ({ connection, sql, values }) => (await at(connection).run(sql, values)).rowsChanged,
  ask: async ({ connection, sql, values }) => {
    const result = await at(connection).runAndReadAll(sql, values)
    return result.getRows().map(row => row.map(plain))
  },
  statements: async ({ connection, sql }) => (await at(connection).extractStatements(sql)).count,
  question: ({ connection, sql, maxRows, maxBytes }) =>
    watched(connection, () => answer(at(connection), sql, maxRows, maxBytes)),
  stream: ({ connection, sql }) =>
    watched(connection, async () => {
      const { names, types, ...rest } = await rowsOf(at(connection), sql)
      streams.set(connection, { names, types, ...rest })
      return { names, types }
    }),
  more: ({ connection, maxRows }) => watched(connection, () => more(connection, maxRows)),
  interrupt: ({ connection }) => connections.get(connection)?.interrupt(),
  close: () => instance?.closeSync(),
}

/** @typedef {{ names: string[], types: string[], rows: AsyncGenerator<(string | null)[]> }} Rows */

/** Rows that are taken batch by batch. @type {Map<number, Rows>} */
const streams = new Map()

/** @param {Connection} connection @param {string} sql @returns {Promise<Rows>} */
async function rowsOf(connection, sql) {
  const result = await connection.stream(sql)
  const names = result.columnNames()
  const types = result.columnTypes().map(String)
  // Value by value, so that no more is made than is given.
  async function* rows() {
    for (;;) {
      const chunk = await result.fetchChunk()
      if (!chunk || chunk.rowCount === 0) return
      for (let i = 0; i < chunk.rowCount; i++) {
        yield names.map((_, column) => {
          const value = chunk.getColumnVector(column).getItem(i)
          return value === null ? null : String(value)
        })
      }
    }
  }
  return { names, types, rows: rows() }
}

/** @param {(string | null)[]} row */
const sizeOf = row => row.reduce((sum, text) => sum + (text?.length ?? 1), 0)

/**
 * All rows, within limits.
 * @param {Connection} connection @param {string} sql @param {number} maxRows @param {number} maxBytes
 */
async function answer(connection, sql, maxRows, maxBytes) {
  const { names, types, rows: coming } = await rowsOf(connection, sql)
  const rows = []
  let bytes = 0
  for await (const row of coming) {
    if (rows.length === maxRows) return { names, types, rows, cut: 'rows' }
    bytes += sizeOf(row)
    if (bytes > maxBytes) return { names, types, rows, cut: 'bytes' }
    rows.push(row)
  }
  return { names, types, rows, cut: null }
}

/** The next rows of a stream. @param {number} number @param {number} maxRows */
async function more(number, maxRows) {
  const stream = streams.get(number)
  if (!stream) throw new Error('the rows are not there any more')
  const rows = []
  let bytes = 0
  while (rows.length < maxRows && bytes < BATCH_BYTES) {
    const next = await stream.rows.next()
    if (next.done) return { rows, done: true }
    bytes += sizeOf(next.value)
    rows.push(next.value)
  }
  return { rows, done: false }
}

setInterval(() => {
  if (asking.size === 0) return
  const bytes = process.memoryUsage.rss()
  if (bytes > ENDS_AT_BYTES) process.kill(process.pid, 'SIGKILL')
  if (bytes <= QUESTIONS_UP_TO_BYTES) return
  for (const connection of asking.keys()) {
    asking.set(connection, 'memory')
    connections.get(connection)?.interrupt()
  }
}, LOOK_MS)

process.on('message', async (/** @type {{ id: number, op: string }} */ { id, op, ...asked }) => {
  let said
  try {
    said = { id, value: await DO[op]?.(asked) }
  } catch (error) {
    const { message, code } = /** @type {{ message?: string, code?: string }} */ (error)
    said = { id, error: { message: message ?? String(error), code } }
  }
  process.send?.(said, () => op === 'close' && process.exit())
})
// Its starter says when it ends, also when it was killed; a terminal's Ctrl-C is meant for the starter.
process.on('disconnect', () => process.kill(process.pid, 'SIGKILL'))
// The starter may have been killed while DuckDB was loaded: nobody says so any more.
if (!process.connected) process.kill(process.pid, 'SIGKILL')
for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP']) process.on(signal, () => {})
