/** A throw-away MariaDB server from Debian's packages, on loopback, as a non-root user. */
import { spawn, spawnSync, type ChildProcess } from 'node:child_process'
import { chownSync, existsSync, mkdtempSync, rmSync } from 'node:fs'
import { join } from 'node:path'
import { Session } from '../src/mariadb/client.ts'
import { mariadbConfig } from '../src/mariadb/config.ts'
import { freePort } from './real-postgres.ts'

export interface RealMariadb {
  config: { host: string; port: number; database: string; user: string; password: string }
  /** A session of its own; the caller closes it. */
  connect(): Promise<Session>
  readonly pid: number
  restart(how?: 'SIGTERM' | 'SIGKILL', more?: string[]): Promise<void>
  close(): Promise<void>
}

const PASSWORD = 'under the alders'

/** The server's packages bring a user for it. */
function runAs(): { uid?: number; gid?: number } {
  if (process.getuid?.() !== 0) return {}
  const id = (flag: string) => Number(spawnSync('id', [flag, 'mysql'], { encoding: 'utf8' }).stdout)
  return { uid: id('-u'), gid: id('-g') }
}

export async function startRealMariadb(): Promise<RealMariadb> {
  if (!existsSync('/usr/sbin/mariadbd'))
    throw new Error('No MariaDB server is installed. Install it: apt-get install mariadb-server')
  const user = runAs()
  const folder = mkdtempSync('/tmp/constant-tide-mariadb-')
  if (user.uid !== undefined) chownSync(folder, user.uid, user.gid!)
  const data = join(folder, 'data')
  const socket = join(folder, 's')
  const made = spawnSync(
    'mariadb-install-db',
    ['--no-defaults', `--datadir=${data}`, '--auth-root-authentication-method=normal', '--skip-test-db'],
    { ...user, cwd: folder, encoding: 'utf8' },
  )
  if (made.status !== 0) throw new Error(`mariadb-install-db failed: ${made.stdout}${made.stderr}`)
  const port = await freePort()
  const config = { host: '127.0.0.1', port, database: 'site', user: 'osier', password: PASSWORD }
  const connect = () => Session.open(mariadbConfig(config))
  let server: ChildProcess
  const start = async (more: string[] = []) => {
    const settings = {
      datadir: data,
      tmpdir: folder, // at its start a server clears what it takes for its own there
      socket,
      port,
      'bind-address': '127.0.0.1',
      'log-bin': 'binlog',
      'binlog-format': 'ROW',
      'binlog-row-metadata': 'FULL',
      'server-id': 7,
      // Written at each commit, so that a kill loses nothing; synced now and then, since the machine itself goes on.
      'innodb-flush-log-at-trx-commit': 2,
      'sync-binlog': 0,
      'innodb-buffer-pool-size': '256M',
      'pid-file': join(folder, 'pid'),
    }
    const options = Object.entries(settings).map(([name, value]) => `--${name}=${value}`)
    server = spawn('/usr/sbin/mariadbd', ['--no-defaults', ...options, ...more], {
      ...user,
      cwd: folder,
      stdio: 'ignore',
    })
    for (let tries = 0; ; tries++) {
      const said = spawnSync('mariadb', ['--no-defaults', `--socket=${socket}`, '-uroot', '-e', 'SELECT 1'])
      if (said.status === 0) return
      if (tries > 200) throw new Error(`MariaDB did not start: ${said.stderr}`)
      await new Promise(resolve => setTimeout(resolve, 100))
    }
  }
  const stop = async (signal: 'SIGTERM' | 'SIGKILL') => {
    if (server.exitCode !== null || server.signalCode !== null) return
    const gone = new Promise(resolve => server.once('exit', resolve))
    server.kill(signal)
    await gone
  }
  await start()
  spawnSync('mariadb', [
    '--no-defaults',
    `--socket=${socket}`,
    '-uroot',
    '-e',
    `CREATE DATABASE site CHARACTER SET utf8mb4; CREATE USER osier@'%' IDENTIFIED BY '${PASSWORD}'; GRANT ALL PRIVILEGES ON *.* TO osier@'%' WITH GRANT OPTION`,
  ])
  return {
    config,
    connect,
    get pid() {
      return server.pid!
    },
    restart: async (how = 'SIGTERM', more = []) => {
      await stop(how)
      await start(more)
    },
    close: async () => {
      await stop('SIGTERM')
      rmSync(folder, { recursive: true, force: true })
    },
  }
}
