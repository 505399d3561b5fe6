/** A throw-away PostgreSQL server from Debian's packages, on loopback, as a non-root user. */
import { spawn, spawnSync, type ChildProcess } from 'node:child_process'
import { chmodSync, chownSync, existsSync, mkdtempSync, readdirSync, rmSync, writeFileSync } from 'node:fs'
import { createServer } from 'node:net'
import { join } from 'node:path'
import pg from 'pg'

export interface TestDatabase {
  name: string
  config: { host: string; port: number; database: string; user: string; password: string; method?: string }
  /** A client of its own; the caller ends it. */
  connect(): Promise<pg.Client>
  close(): Promise<void>
}

export interface RealPostgres extends TestDatabase {
  /** The folder of the server's own programs. */
  bin: string
  readonly pid: number
  /** `SIGINT` cuts connections and shuts down well, `SIGQUIT` does not wait for anything. */
  restart(how?: 'SIGINT' | 'SIGQUIT'): Promise<void>
  /** Comes back on a new timeline, as a standby does that has taken over. */
  failOver(): Promise<void>
}

const PASSWORD = 'under the willows'

function binaries(): string {
  const root = '/usr/lib/postgresql'
  const versions = existsSync(root) ? readdirSync(root).sort((a, b) => Number(b) - Number(a)) : []
  const found = versions
    .map(version => join(root, version, 'bin'))
    .find(path => existsSync(join(path, 'initdb')))
  if (!found) throw new Error('No PostgreSQL server is installed. Install it: apt-get install postgresql')
  return found
}

/** Servers refuse to run as root; then the packages' own user runs them. */
function runAs(): { uid?: number; gid?: number } {
  if (process.getuid?.() !== 0) return {}
  const id = (flag: string) => Number(spawnSync('id', [flag, 'postgres'], { encoding: 'utf8' }).stdout)
  return { uid: id('-u'), gid: id('-g') }
}

export async function freePort(): Promise<number> {
  return new Promise(resolve => {
    const probe = createServer().listen(0, '127.0.0.1', () => {
      const { port } = probe.address() as { port: number }
      probe.close(() => resolve(port))
    })
  })
}

export async function startRealPostgres(chosen: Record<string, string> = {}): Promise<RealPostgres> {
  const bin = binaries()
  const user = runAs()
  const folder = mkdtempSync('/tmp/constant-tide-postgres-')
  chmodSync(folder, 0o700)
  const passwordFile = join(folder, 'password')
  writeFileSync(passwordFile, PASSWORD)
  if (user.uid !== undefined) for (const path of [folder, passwordFile]) chownSync(path, user.uid, user.gid!)
  const data = join(folder, 'data')
  const made = spawnSync(
    join(bin, 'initdb'),
    ['-D', data, '-U', 'osier', '-A', 'scram-sha-256', `--pwfile=${passwordFile}`, '-E', 'UTF8', '--no-sync'],
    { ...user, cwd: folder, encoding: 'utf8' },
  )
  if (made.status !== 0) throw new Error(`initdb failed: ${made.stderr}`)
  const port = await freePort()
  const config = { host: '127.0.0.1', port, database: 'postgres', user: 'osier', password: PASSWORD }
  const connect = async () => {
    const client = new pg.Client(config)
    client.on('error', () => {})
    await client.connect()
    return client
  }
  const settings = {
    fsync: 'off',
    max_connections: 60,
    wal_level: 'logical',
    wal_sender_timeout: '10s',
    shared_buffers: '256MB',
    max_wal_size: '4GB',
    ...chosen,
  }
  let server: ChildProcess
  const start = async (more: Record<string, string> = {}) => {
    const options = Object.entries({ ...settings, ...more }).flatMap(([name, value]) => [
      '-c',
      `${name}=${value}`,
    ])
    const args = ['-D', data, '-p', String(port), '-h', '127.0.0.1', '-k', folder, ...options]
    server = spawn(join(bin, 'postgres'), args, { ...user, cwd: folder, stdio: 'ignore' })
    for (let tries = 0; ; tries++) {
      try {
        await (await connect()).end()
        return
      } catch (error) {
        if (tries > 200) throw error
        await new Promise(resolve => setTimeout(resolve, 100))
      }
    }
  }
  const stop = async (signal: 'SIGINT' | 'SIGQUIT' | 'SIGKILL') => {
    if (server.exitCode !== null || server.signalCode !== null) return
    const gone = new Promise(resolve => server.once('exit', resolve))
    server.kill(signal)
    await gone
  }
  await start()
  return {
    name: 'Debian’s PostgreSQL',
    bin,
    config,
    connect,
    get pid() {
      return server.pid!
    },
    restart: async (how = 'SIGINT') => {
      await stop(how)
      await start()
    },
    failOver: async () => {
      await stop('SIGINT')
      const signal = join(data, 'recovery.signal')
      writeFileSync(signal, '')
      if (user.uid !== undefined) chownSync(signal, user.uid, user.gid!)
      await start({ restore_command: '/bin/false' })
    },
    close: async () => {
      await stop('SIGINT')
      rmSync(folder, { recursive: true, force: true })
    },
  }
}
