/** A saved query as a file that people keep with their code: SQL, with what else is to be known of it in comments above. */
import { Failure } from '../failure.ts'
import { PARAMETER_NAME, PARAMETER_TYPES, type QueryParameter } from './query-parameters.ts'

export interface QueryFile {
  name: string
  /** By its name. */
  connection: string
  key: string[]
  parameters: QueryParameter[]
  sql: string
}

const LINE = /^--\s*(connection|key|parameter)\s*:\s*(.*?)\s*$/i
const PARAMETER = new RegExp(`^(\\S+) (${PARAMETER_TYPES.join('|')})(?: = (.*))?$`)

/**
 * `name`: the file's, without its ending. `-- connection: NAME`, `-- key: COLUMN, COLUMN` and, for each parameter, `-- parameter: NAME TYPE = PRESET`
 * stand above the SQL, in any order. Throws a Failure for a file without a connection or without SQL.
 */
export function readQueryFile(name: string, text: string): QueryFile {
  const lines = text.replace(/^\uFEFF/, '').split(/\r?\n/)
  const said = new Map<string, string>()
  const parameters: QueryParameter[] = []
  let begin = 0
  for (; begin < lines.length; begin++) {
    const line = lines[begin]!
    const [, what, value] = LINE.exec(line) ?? []
    if (what?.toLowerCase() === 'parameter') parameters.push(parameterOf(name, value!))
    else if (what !== undefined) said.set(what.toLowerCase(), value!)
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
  return { name, connection, key: key.filter(column => column !== ''), parameters, sql }
}

function parameterOf(file: string, text: string): QueryParameter {
  const [, name, type, preset = ''] = PARAMETER.exec(text) ?? []
  if (name !== undefined && new RegExp(PARAMETER_NAME).test(name))
    return { name, type: type as QueryParameter['type'], preset }
  throw new Failure(
    'refused',
    `${file}.sql has a parameter that cannot be read: ${text}.`,
    `Write “-- parameter: NAME TYPE = PRESET”, with a type of ${PARAMETER_TYPES.join(', ')}.`,
  )
}
