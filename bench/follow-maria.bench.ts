/**
 * A backlog in the binary log of a real MariaDB, of one-row transactions and of transactions of 10,000 rows: how fast it
 * gets into the journal and into two targets, against the server's own `mariadb-binlog` decoding the same log into a file.
 * The engine is frozen while a backlog is made, and its time runs from when it is let go.
 */
import { spawnSync } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { startRealMariadb } from '../packages/connectors/tests/real-mariadb.ts'
import { say } from './bed.ts'
import { makeFollowing } from './following.ts'
import { machineTime } from './processor.ts'

const SMALL = 100_000
const LARGE = 100
const LARGE_ROWS = 10_000
const INTO_JOURNAL = 0.5
const INTO_TARGET = 0.3

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-bench-'))
const source = await startRealMariadb()
const client = await source.connect()
for (const sql of [
  'USE site',
  'CREATE TABLE mixed (id bigint PRIMARY KEY, at datetime(6) NOT NULL, amount decimal(12,2), label varchar(100))',
  `CREATE PROCEDURE one_by_one(first int, n int)
   BEGIN
     FOR i IN first .. first + n - 1 DO
       INSERT INTO mixed VALUES (i, now(6), i / 7.0, CONCAT('row ', i));
     END FOR;
   END`,
])
  await client.run(sql)
const bed = await makeFollowing(folder, {
  kind: 'mariadb',
  config: source.config,
  namespace: 'site',
  positionKind: 'binlog',
})
const pipelines: [string, string][] = [
  ['DuckDB', await bed.follow('duckdb', 'duckdb')],
  ['PostgreSQL', await bed.follow('postgres', 'postgres')],
]

async function place(): Promise<{ file: string; offset: number }> {
  const [row] = await client.arrays('SHOW MASTER STATUS')
  return { file: row![0]!, offset: Number(row![1]) }
}

/** Seconds, and processor time of all, that the server's own program takes to decode what was made into a file. */
function decode(from: { file: string; offset: number }): { seconds: number; processor: number } {
  const { host, port, user, password } = source.config
  const where = `-R -h ${host} -P ${port} -u ${user} '-p${password}'`
  const how = `--base64-output=decode-rows -v --start-position=${from.offset} --to-last-log ${from.file}`
  const [began, worked] = [performance.now(), machineTime()]
  const done = spawnSync('sh', [
    '-c',
    `mariadb-binlog --no-defaults ${where} ${how} > ${join(folder, 'limit')}`,
  ])
  if (done.status !== 0) throw new Error(String(done.stderr))
  rmSync(join(folder, 'limit'))
  return { seconds: (performance.now() - began) / 1000, processor: machineTime() - worked }
}

async function makeLarge(): Promise<void> {
  for (let i = 0; i < LARGE; i++) {
    const first = SMALL + i * LARGE_ROWS + 1
    await client.run(
      `INSERT INTO mixed SELECT seq, now(6), seq / 7.0, CONCAT('row ', seq) FROM seq_${first}_to_${first + LARGE_ROWS - 1}`,
    )
  }
}

let landed = 0
const journals: number[] = []
const targets: number[] = []
const backlogs: [string, number, () => Promise<unknown>][] = [
  ['one-row transactions', SMALL, () => client.run(`CALL one_by_one(1, ${SMALL})`)],
  ['transactions of 10,000 rows', LARGE * LARGE_ROWS, makeLarge],
]
for (const [what, changes, make] of backlogs) {
  for (const [, id] of pipelines) await bed.act(id, 'pause')
  const from = await place()
  bed.server.child.kill('SIGSTOP')
  await make()
  const to = await place()
  const limit = decode(from)
  const rate = (seconds: number) => `${Math.round(changes / seconds)} changes/s`
  const worked = machineTime()
  bed.server.child.kill('SIGCONT')
  const journal = await bed.untilInJournal(`${to.file}:${to.offset}`)
  const processor = machineTime() - worked
  journals.push(limit.seconds / journal)
  say(
    `${what}: limit ${rate(limit.seconds)}; into the journal ${rate(journal)}, ratio ${(limit.seconds / journal).toFixed(2)}; processor time ${processor.toFixed(2)} s against ${limit.processor.toFixed(2)} s`,
  )
  landed += changes
  for (const [name, id] of pipelines) {
    const before = machineTime()
    await bed.act(id, 'continue')
    const seconds = await bed.untilLanded(id, landed)
    targets.push(limit.seconds / seconds)
    say(
      `${what}: from the journal into ${name} ${rate(seconds)}, ratio ${(limit.seconds / seconds).toFixed(2)} (to reach: at least ${INTO_TARGET}); processor time ${(machineTime() - before).toFixed(2)} s`,
    )
  }
}
await client.close()
await bed.close()
await source.close()
rmSync(folder, { recursive: true, force: true })
say(
  `follow-maria: ratio ${Math.min(...journals).toFixed(2)} (ours into the journal, into targets at least ${Math.min(...targets).toFixed(2)}; limit mariadb-binlog into a file; to reach: at least ${INTO_JOURNAL} and ${INTO_TARGET})`,
)
