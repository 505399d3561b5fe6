/** The plainest way into a DuckDB file: what a command writes, through a named pipe, into DuckDB's own load. */
import { DuckDBInstance } from '@duckdb/node-api'
import { spawn, spawnSync } from 'node:child_process'
import { join } from 'node:path'
import { measured, type Measured } from './copying.ts'

export async function loadDuckdb(folder: string, command: string, readOptions: string): Promise<Measured> {
  const pipe = join(folder, 'pipe')
  spawnSync('mkfifo', [pipe])
  const instance = await DuckDBInstance.create(join(folder, 'limit.duckdb'), { threads: '2' })
  const connection = await instance.connect()
  const out = await measured(async () => {
    const writing = spawn('sh', ['-c', `${command} > ${pipe}`])
    await connection.run(`CREATE TABLE mixed AS SELECT * FROM read_csv('${pipe}', ${readOptions})`)
    if (writing.exitCode !== null && writing.exitCode !== 0) throw new Error('the plain way failed')
  })
  connection.disconnectSync()
  instance.closeSync()
  return out
}
