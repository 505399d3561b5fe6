import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import type { PoolClient } from 'pg'
import { from as copyFrom } from 'pg-copy-streams'
import type { CopyRange } from '../../contract/source.ts'

export async function copyInto(
  client: PoolClient,
  into: string,
  csv: CopyRange['csv'],
): Promise<{ rows: number; bytes: number }> {
  const stream = client.query(copyFrom(`COPY ${into} FROM STDIN (FORMAT csv)`))
  let bytes = 0
  const counted = async function* () {
    for await (const part of csv) {
      bytes += part.length
      yield part
    }
  }
  await pipeline(Readable.from(counted(), { objectMode: false }), stream)
  return { rows: stream.rowCount, bytes }
}
