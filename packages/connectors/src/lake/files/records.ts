/** The records of a file that others have written, one after another, with the line that each begins in. */
import { isLosslessNumber, parse as parseJson, stringify } from 'lossless-json'
import { createReadStream } from 'node:fs'
import { createInterface } from 'node:readline'
import type { Readable } from 'node:stream'
import { createGunzip, type Gunzip } from 'node:zlib'
import { csvRecords } from './csv-records.ts'
import type { FileRecord } from './file-record.ts'

export type TextFormat = 'csv' | 'json lines'

/** `zipped`: by gzip. */
export async function* readRecords(
  file: string,
  format: TextFormat,
  zipped: boolean,
): AsyncGenerator<FileRecord> {
  const raw = createReadStream(file)
  let stream: Readable = raw
  if (zipped) {
    stream = createGunzip()
    raw.on('error', error => stream.destroy(error))
    raw.pipe(stream as Gunzip)
  }
  try {
    if (format === 'csv') yield* csvRecords(stream.setEncoding('utf8'))
    else yield* jsonRecords(stream)
  } finally {
    stream.destroy()
    raw.destroy()
  }
}

async function* jsonRecords(stream: Readable): AsyncGenerator<FileRecord> {
  let failed: unknown
  stream.on('error', error => (failed = error))
  let line = 0
  for await (const text of createInterface({ input: stream, crlfDelay: Infinity })) {
    line++
    const told = line === 1 ? text.replace(/^\uFEFF/, '') : text
    if (told.trim() === '') continue
    yield { line, ...ofJson(told) }
  }
  if (failed) throw failed
}

function ofJson(text: string): Omit<FileRecord, 'line'> {
  const nothing = { names: [], values: [] }
  let parsed: unknown
  try {
    parsed = parseJson(text)
  } catch (thrown) {
    return { ...nothing, problem: `it is no JSON: ${(thrown as Error).message}` }
  }
  if (parsed === null || typeof parsed !== 'object' || Array.isArray(parsed) || isLosslessNumber(parsed))
    return { ...nothing, problem: 'it is no JSON object' }
  const entries = Object.entries(parsed)
  return {
    names: entries.map(([name]) => name),
    values: entries.map(([, value]) => textOf(value)),
    problem: null,
  }
}

/** Numbers keep all their digits. */
function textOf(value: unknown): string | null {
  if (value === null || value === undefined) return null
  if (typeof value === 'string') return value
  if (typeof value === 'boolean') return value ? 'true' : 'false'
  if (isLosslessNumber(value)) return value.value
  return stringify(value) ?? null
}
