/** `LOAD DATA LOCAL`: the server's fastest way in. */
import type { Column } from '@tide/core/records/column'
import { listAsJson } from '@tide/core/records/list'
import { Readable } from 'node:stream'
import type { CopyRange } from '../../contract/source.ts'
import type { Session } from '../client.ts'
import { turnFields } from '../../csv-fields.ts'
import { loadDataLines } from './csv.ts'

const FLOAT_MAX = '3.4028234663852886e38'

type Loaded = Pick<Column, 'type' | 'nativeType'>

/** Values that are written otherwise in MariaDB are turned as they come in. Throws when the server would change one. */
export async function loadData(
  session: Session,
  into: string,
  columns: readonly Loaded[],
  targets: readonly string[],
  csv: CopyRange['csv'],
): Promise<{ rows: number; bytes: number }> {
  let bytes = 0
  const counted = async function* () {
    for await (const part of csv) {
      bytes += part.length
      yield part
    }
  }
  const lists = columns.map(({ type }) =>
    type.kind === 'list' ? (text: string) => listAsJson(text, type.delimiter) : undefined,
  )
  const content = lists.some(list => list) ? turnFields(counted(), lists) : counted()
  const turned = columns.map(turn)
  const list = targets.map((target, i) => (turned[i] ? `@v${i}` : target))
  const set = targets.flatMap((target, i) => (turned[i] ? [`${target} = ${turned[i](`@v${i}`)}`] : []))
  const rows = await session.run(
    `LOAD DATA LOCAL INFILE 'rows' ${into} CHARACTER SET utf8mb4 (${list.join(', ')})${set.length > 0 ? ` SET ${set.join(', ')}` : ''}`,
    { infileStreamFactory: () => Readable.from(loadDataLines(content), { objectMode: false }) },
  )
  // LOCAL turns what does not fit into warnings; nothing may be changed silently.
  const [warning] = await session.arrays('SHOW WARNINGS')
  if (warning) throw Object.assign(new Error(warning[2]!), { code: 'WARN_DATA_TRUNCATED' })
  return { rows, bytes }
}

/** How canonical text is written in MariaDB, where that differs. */
function turn({ type, nativeType }: Loaded): ((value: string) => string) | undefined {
  switch (type.kind) {
    case 'bool':
      return value => `IF(${value} IS NULL, NULL, ${value} = 't')`
    case 'binary':
      return value => `UNHEX(SUBSTR(${value}, 3))`
    case 'float':
      // The largest one's shortest text is a little more than it is, and is refused as out of range.
      return type.bits === 32
        ? value =>
            `IF(ABS(${value}) > ${FLOAT_MAX} AND ABS(${value}) < 3.4028236e38, SIGN(${value}) * ${FLOAT_MAX}, ${value})`
        : undefined
    case 'timestamp':
      return type.zoned && /^(datetime|timestamp)/.test(nativeType)
        ? value => `TRIM(TRAILING '+00' FROM ${value})`
        : undefined
    case 'int':
      return /^(bit|year)/.test(nativeType) ? value => `CAST(${value} AS UNSIGNED)` : undefined
    default:
      return undefined
  }
}
