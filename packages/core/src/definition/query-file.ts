/** A saved query as a file that people keep with their code: SQL, with what else is to be known of it in comments above. */
import { Failure } from '../failure.ts'

export interface QueryFile {
  name: string
  /** By its name. */
  connection: string
  key: string[]
  sql: string
}

const LINE = /^--\s*(connection|key)\s*:\s*(.*?)\s*$/i

/**
 * `name`: the file's, without its ending. `-- connection: NAME` and `-- key: COLUMN, COLUMN` stand above the SQL, in any order. Throws a Failure for a
 * file without a connection or without SQL.
 */
export function readQueryFile(name: string, text: string): QueryFile {
  const lines = text.replace(/^\uFEFF/, '').split(/\r?\n/)
  const said = new Map<string, string>()
  let begin = 0
  for (; begin < lines.length; begin++) {
    const line = lines[begin]!
    const [, what, value] = LINE.exec(line) ?? []
    if (what !== undefined) said.set(what.toLowerCase(), value!)
    else if (line.trim() !== '') break
  }
  const sql = lines.slice(begin).join('\n').trim().replace(/;$/, '')
  const connection = said.get('connection') ?? ''
  if (connection === '')
    throw new Failure(
      'refused',
      `${name}.sql does not say which connection it asks.`,
      'Write “-- connection: NAME” above its SQL.',
    )
  if (sql === '')
    throw new Failure('refused', `${name}.sql holds no SQL.`, 'Write one, or take the file away.')
  const key = (said.get('key') ?? '').split(',').map(column => column.trim())
  return { name, connection, key: key.filter(column => column !== ''), sql }
}
