/** Copies tables at one exported snapshot, whose place in the log is known. */
import { Failure } from '@tide/core/failure'
import { randomBytes } from 'node:crypto'
import { printName } from '@tide/core/records/dataset'
import type { Pool, PoolClient } from 'pg'
import type { CopyRange, CopyView, Patience } from '../../contract/source.ts'
import type { KeyedTable } from '../../contract/records.ts'
import { tableName } from '../catalogue.ts'
import { copyOut } from '../copy-out.ts'
import type { PostgresConfig } from '../config.ts'
import { PIN } from '../copy.ts'
import { openPool } from '../pool.ts'
import { prefiltered } from '../prefilter.ts'
import { ident, literal } from '../text.ts'
import { identifySystem, withReplication } from './replication.ts'
import { LOG_KIND } from './slot.ts'
import { withPatience } from './wait.ts'

const READERS = 2
/** Pages of 8 KiB in a range: 64 MiB. Columnar targets write whole groups of rows only from large ranges. */
const RANGE_PAGES = 8192

/**
 * Opens readers that all see the database as it was at one place of its log: that of a temporary slot, which says
 * where following must begin and is gone before the copy starts.
 */
export async function openView(config: PostgresConfig, pool: Pool, patience?: Patience): Promise<CopyView> {
  const readers = openPool(config, { max: READERS })
  const clients: PoolClient[] = []
  try {
    const position = await withReplication(config, async replication => {
      const { incarnation } = await identifySystem(replication)
      const name = `constant_tide_view_${randomBytes(8).toString('hex')}`
      const { pid } = (await replication.query('SELECT pg_backend_pid() AS pid')).rows[0]
      const making = replication.query(
        `CREATE_REPLICATION_SLOT ${ident(name)} TEMPORARY LOGICAL pgoutput EXPORT_SNAPSHOT`,
      )
      const made = await withPatience(pool, Number(pid), patience, making)
      const { consistent_point: at, snapshot_name: snapshot } = made.rows[0]
      for (let i = 0; i < READERS; i++) {
        const client = await readers.connect()
        clients.push(client)
        await client.query('BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY')
        await client.query(`SET TRANSACTION SNAPSHOT ${literal(snapshot)}`).catch(error => {
          throw new Failure(
            'transient',
            'The snapshot to copy at is gone: the connection that held it was cut.',
            'It is taken again by itself.',
            error,
          )
        })
        await client.query(`${PIN}; SET LOCAL row_security = off`)
      }
      return { kind: LOG_KIND, incarnation, at }
    })
    return new SnapshotView(position, pool, readers, clients)
  } catch (error) {
    for (const client of clients) client.release(true)
    await readers.end()
    throw error
  }
}

interface Leaf {
  oid: string
  /** Another one after the table was rewritten: then pages are not where they were. */
  file: string
  pages: number
  name: string
  rangeScans: boolean
}

class SnapshotView implements CopyView {
  readonly readers = READERS
  readonly position: CopyView['position']
  private readonly pool: Pool
  private readonly clients: Pool
  private readonly idle: PoolClient[]
  private readonly wanted: ((client: PoolClient) => void)[] = []

  constructor(position: CopyView['position'], pool: Pool, clients: Pool, idle: PoolClient[]) {
    this.position = position
    this.pool = pool
    this.clients = clients
    this.idle = idle
  }

  /** Ranges of pages, partition by partition. A table that was rewritten since an earlier copy begins anew. */
  async *copy(lane: KeyedTable, after: string | null, signal: AbortSignal): AsyncGenerator<CopyRange> {
    const leaves = await this.leaves(lane)
    const [afterOid, afterFile, afterPage] = after?.split(':') ?? []
    const found = leaves.findIndex(({ oid, file }) => oid === afterOid && file === afterFile)
    for (let i = Math.max(0, found); i < leaves.length; i++) {
      const leaf = leaves[i]!
      let page = i === found ? Number(afterPage) : 0
      do {
        if (signal.aborted) return
        const next = leaf.rangeScans ? Math.min(page + RANGE_PAGES, leaf.pages) : leaf.pages
        const last = i === leaves.length - 1 && next >= leaf.pages
        // The last range has no end: its table may have grown between the snapshot and our look at its size.
        const upper = next >= leaf.pages ? '' : ` AND ctid < '(${next},0)'::tid`
        const range = leaf.rangeScans ? ` WHERE ctid >= '(${page},0)'::tid${upper}` : ''
        const where = `${range}${prefiltered(lane.where, lane.columns, range === '' ? ' WHERE ' : ' AND ')}`
        const columns = lane.columns.map(({ name }) => ident(name)).join(', ')
        const statement = `COPY (SELECT ${columns} FROM ONLY ${leaf.name}${where}) TO STDOUT (FORMAT csv)`
        yield { csv: this.stream(statement), upTo: last ? null : `${leaf.oid}:${leaf.file}:${next}` }
        page = next
      } while (page < leaf.pages)
    }
  }

  async close(): Promise<void> {
    for (const client of this.idle.splice(0)) client.release(true)
    await this.clients.end()
  }

  /** The table itself, or its partitions that hold rows. */
  private async leaves({ dataset }: KeyedTable): Promise<Leaf[]> {
    const { rows } = await this.pool.query(
      `WITH RECURSIVE part(oid) AS (
         SELECT to_regclass($1)::oid UNION ALL
         SELECT i.inhrelid FROM part p JOIN pg_catalog.pg_class c ON c.oid = p.oid AND c.relkind = 'p'
           JOIN pg_catalog.pg_inherits i ON i.inhparent = p.oid)
       SELECT c.oid::text, pg_relation_filenode(c.oid)::text AS file, n.nspname, c.relname, c.relkind::text AS kind,
              (pg_relation_size(c.oid) / 8192)::text AS pages,
              current_setting('server_version_num')::int >= 140000 AS scans
         FROM part p JOIN pg_catalog.pg_class c ON c.oid = p.oid JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
        WHERE c.relkind IN ('r', 'p') ORDER BY c.oid`,
      [tableName(dataset)],
    )
    if (rows.length === 0) {
      throw new Failure(
        'structural',
        `The table ${printName(dataset)} is not there any more.`,
        'Leave it out in the setup, or create it again at the source and start again.',
      )
    }
    const leaves = rows.filter(row => row.kind === 'r')
    const used = leaves.length > 0 ? leaves : rows.slice(0, 1) // without a partition there is nothing to read
    return used.map(row => ({
      oid: row.oid,
      file: row.file ?? '0',
      pages: Number(row.pages),
      name: tableName({ namespace: row.nspname, name: row.relname }),
      rangeScans: row.scans === 't' && row.kind === 'r',
    }))
  }

  private async *stream(statement: string): AsyncGenerator<Uint8Array> {
    const client = await this.take()
    let whole = false
    try {
      yield* copyOut(client, statement)
      whole = true
    } finally {
      // One that was left in the middle of its answer is of no use any more.
      if (whole) this.give(client)
      else client.release(true)
    }
  }

  private async take(): Promise<PoolClient> {
    const client = this.idle.pop()
    return client ?? new Promise(resolve => this.wanted.push(resolve))
  }

  private give(client: PoolClient): void {
    const next = this.wanted.shift()
    if (next) next(client)
    else this.idle.push(client)
  }
}
