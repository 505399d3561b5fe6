/** A table of 8 mixed columns copied from a real MariaDB into a DuckDB file: ours, against its own client piped into DuckDB's load. */
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { startRealMariadb } from '../packages/connectors/tests/real-mariadb.ts'
import { say } from './bed.ts'
import { copyOurs, sayCopy } from './copying.ts'
import { loadDuckdb } from './load-duckdb.ts'

const ROWS = Number(process.env.ROWS ?? 3_000_000)
const TO_REACH = 0.7

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-bench-'))
const source = await startRealMariadb()
const client = await source.connect()
for (const sql of [
  'USE site',
  `CREATE TABLE mixed (id bigint PRIMARY KEY, at datetime NOT NULL, amount decimal(12,2), ratio double, flag boolean,
     label varchar(60), code uuid, day date)`,
  `INSERT INTO mixed SELECT seq, '2026-01-01' + INTERVAL seq SECOND, seq / 7.0, seq / 3e0, seq % 2,
     IF(seq % 10 = 0, NULL, CONCAT('bed ', seq % 120, ', row ', seq)), CONCAT(LEFT(md5(seq), 8), '-', MID(md5(seq), 9, 4), '-4', MID(md5(seq), 14, 3), '-8', MID(md5(seq), 18, 3), '-', RIGHT(md5(seq), 12)),
     '2026-01-01' + INTERVAL seq % 365 DAY FROM seq_1_to_${ROWS}`,
  'ANALYZE TABLE mixed',
])
  await client.run(sql)
await client.close()
const { host, port, user, password, database } = source.config
// Its batch form has tabs between the fields, and escapes them within.
const limit = await loadDuckdb(
  folder,
  `mariadb --no-defaults --quick --batch --skip-column-names -h ${host} -P ${port} -u ${user} '-p${password}' ${database} -e 'SELECT * FROM mixed'`,
  `columns = {'id': 'BIGINT', 'at': 'TIMESTAMP', 'amount': 'DECIMAL(12,2)', 'ratio': 'DOUBLE', 'flag': 'TINYINT', 'label': 'VARCHAR', 'code': 'UUID', 'day': 'DATE'},
   header = false, auto_detect = false, delim = '\t', quote = '', escape = '', nullstr = 'NULL'`,
)
say(`limit: ${ROWS} rows in ${limit.seconds.toFixed(2)} s`)
const ours = await copyOurs(
  folder,
  { kind: 'mariadb', config: source.config, namespace: 'site' },
  { kind: 'duckdb', config: { path: join(folder, 'w.duckdb') } },
  ROWS,
)
await source.close()
rmSync(folder, { recursive: true, force: true })
sayCopy('copy-maria-duckdb', ROWS, ours, limit, TO_REACH)
