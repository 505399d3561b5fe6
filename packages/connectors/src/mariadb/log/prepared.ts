/** Where a transaction was prepared (XA) that was under way before the log was followed. */
import { Failure } from '@tide/core/failure'
import type { Session } from '../client.ts'
import type { MariadbConfig } from '../config.ts'
import { openDump } from './dump.ts'
import { EVENT, HEADER, readGtid, readHeader } from './events.ts'

interface Place {
  file: string
  offset: number
}

/** Looks through the log's files, the newest first, for the last time that it was prepared before `committed`. */
export async function findPrepared(
  config: MariadbConfig,
  session: Session,
  serverId: number,
  xid: string,
  committed: Place,
): Promise<Place> {
  const files = (await session.arrays('SHOW BINARY LOGS')).map(([file]) => file!)
  const end = files.indexOf(committed.file)
  for (const file of files.slice(0, end + 1).reverse()) {
    const found = await findIn(config, serverId, file, xid, committed)
    if (found) return found
  }
  throw new Failure(
    'structural',
    `A transaction was committed that had been prepared (XA ${xid}) before the log that is still there; its rows are not known.`,
    'Start the pipelines on this source again: their tables are copied anew.',
  )
}

async function findIn(
  config: MariadbConfig,
  serverId: number,
  file: string,
  xid: string,
  committed: Place,
): Promise<Place | undefined> {
  let found: Place | undefined
  let done: () => void
  const ended = new Promise<void>(resolve => (done = resolve))
  const dump = await openDump(config, { file, offset: 4, serverId }, event => {
    const { type, end, size } = readHeader(event)
    // The server says first, by a rotation that is not in the file, which one it sends.
    if (type === EVENT.rotate && end > 0) return done()
    if (type === EVENT.rotate && event.toString('utf8', HEADER + 8) !== file) return done()
    if (file === committed.file && end >= committed.offset) return done()
    if (type === EVENT.gtid && readGtid(event).prepares === xid) found = { file, offset: end - size }
  })
  try {
    await Promise.race([ended, dump.ended])
    return found
  } finally {
    dump.close()
  }
}
