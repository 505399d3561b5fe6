import type { CheckItem } from '@tide/core/api/browse'
import type { Pool } from 'pg'
import type { PostgresConfig } from '../config.ts'
import { readCatalogue, tableName } from '../catalogue.ts'
import { ident } from '../text.ts'

/** Tables whose cursor column leads a valid index. */
const INDEXED = `
SELECT n.nspname, c.relname FROM pg_catalog.pg_index i
  JOIN pg_catalog.pg_class c ON c.oid = i.indrelid JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
  JOIN pg_catalog.pg_attribute a ON a.attrelid = c.oid AND a.attnum = i.indkey[0] AND a.attname = $1
 WHERE i.indisvalid AND i.indpred IS NULL`

/** Which tables the cursor can follow, at what cost, and what it will never see. */
export async function* checkCursor(config: PostgresConfig, pool: Pool): AsyncGenerator<CheckItem> {
  const { cursorColumn: column, user } = config
  const { datasets } = await readCatalogue(pool, 'cursor', column)
  const tables = datasets.filter(({ kind }) => kind === 'table')
  const usable = tables.filter(({ notFollowed }) => !notFollowed)
  const what = `Tables with ${column}`
  if (usable.length === 0) {
    yield {
      what,
      result: 'failed',
      found: 'No table that can be read has such a timestamp column.',
      remedy: 'Name the right column under “More settings”, or add one that every write sets.',
    }
    return
  }
  yield { what, result: 'ok', found: `${usable.length} of the ${tables.length} that can be read` }
  const { rows } = await pool.query(INDEXED, [column])
  const bare = usable.filter(
    ({ namespace, name }) => !rows.some(row => row.nspname === namespace && row.relname === name),
  )
  yield bare.length === 0
    ? { what: `Indexes on ${column}`, result: 'ok', found: 'on all of them' }
    : {
        what: `Indexes on ${column}`,
        result: 'warning',
        found: `${bare.length} tables have none: each is read whole every ${config.cursorEverySeconds} seconds.`,
        remedy: 'Let their owner make them; writing is not held up meanwhile:',
        paste: bare
          .slice(0, 50)
          .map(table => `CREATE INDEX CONCURRENTLY ON ${tableName(table)} (${ident(column)});`)
          .join('\n'),
      }
  const all = await pool.query(`SELECT pg_has_role('pg_read_all_stats', 'USAGE') AS all`)
  yield all.rows[0].all === 't'
    ? { what: 'Wait for open transactions', result: 'ok', found: 'it is shown when each of them began' }
    : {
        what: 'Wait for open transactions',
        result: 'warning',
        found: `It is not shown those of other users: rows that take longer than ${config.cursorSettleSeconds} seconds to be committed are missed.`,
        remedy: 'Let a superuser grant it, which shows this user what others run:',
        paste: `GRANT pg_read_all_stats TO ${ident(user)};`,
      }
  yield {
    what: 'What it cannot see',
    result: 'warning',
    found: `Deletions, changed keys, and writes that leave ${column} as it is.`,
    remedy: 'Where they matter, capture changes from the log or by triggers, or recopy a lane after them.',
  }
}
