/** The built server as a process of its own, to be driven, killed and started again. */
import { fork, type ChildProcess } from 'node:child_process'
import { fileURLToPath } from 'node:url'

const script = (name: string) => fileURLToPath(new URL(`../dist/${name}`, import.meta.url))

export interface Process {
  child: ChildProcess
  /** SIGKILL, no goodbye. */
  kill(): Promise<void>
  /** SIGTERM, waits for a clean end; gives the exit code. */
  stop(): Promise<number | null>
}

export interface ServerProcess extends Process {
  url: string
}

/** Starts one of the built processes and waits for what it says when it is ready. */
async function startProcess(name: string, env: Record<string, string>): Promise<[string, Process]> {
  const child = fork(script(name), {
    env: { ...process.env, NODE_OPTIONS: '', ...env },
    stdio: ['ignore', 'ignore', 'pipe', 'ipc'],
  })
  let said = ''
  child.stderr!.on('data', chunk => {
    said += chunk
    // What it says of faults is needed where a test fails by one.
    process.stderr.write(chunk)
  })
  const gone = new Promise<number | null>(resolve => child.once('exit', resolve))
  const ready = new Promise<string>((resolve, reject) => {
    child.on('message', (message: { ready?: string }) => message.ready && resolve(message.ready))
    child.once('exit', code => reject(new Error(`It ended with ${code}: ${said}`)))
  })
  const end = (signal: NodeJS.Signals) => () => {
    child.kill(signal)
    return gone // at once, when it has ended already
  }
  return [await ready, { child, kill: async () => void (await end('SIGKILL')()), stop: end('SIGTERM') }]
}

/** `settings`: further environment, such as DATABASE_URL. */
export async function startServer(
  dataFolder: string,
  port = 0,
  settings: Record<string, string> = {},
): Promise<ServerProcess> {
  const env = { TIDE_DATA: dataFolder, TIDE_PORT: String(port), ...settings }
  const [url, server] = await startProcess('server/server.mjs', env)
  return { ...server, url }
}

/** An engine alone, on a store that is shared. */
export async function startEngine(dataFolder: string, settings: Record<string, string>): Promise<Process> {
  const [, engine] = await startProcess('server/engine.mjs', { TIDE_DATA: dataFolder, ...settings })
  return engine
}

/** The demo world's process, told where the server is. */
export async function startStandIns(
  dataFolder: string,
  server: string,
): Promise<{ screen: string; stop(): Promise<void> }> {
  const child = fork(script('stand-ins/stand-ins.mjs'), {
    env: { ...process.env, NODE_OPTIONS: '', TIDE_DATA: dataFolder, TIDE_PORT: '0' },
    stdio: ['ignore', 'ignore', 'inherit', 'ipc'],
  })
  const message = () =>
    new Promise<Record<string, string>>(resolve =>
      child.once('message', resolve as (message: unknown) => void),
    )
  const { ready } = await message()
  const set = message()
  child.send({ server })
  const { failed } = await set
  if (failed) throw new Error(failed)
  const gone = new Promise<void>(resolve => child.once('exit', () => resolve()))
  return {
    screen: ready!,
    stop: () => {
      child.kill('SIGTERM')
      return gone
    },
  }
}

/** Asks again until the answer is there. */
export async function eventually<T>(
  ask: () => Promise<T | undefined | false>,
  seconds = 60,
  what = 'it',
): Promise<T> {
  const end = Date.now() + seconds * 1000
  for (let last: unknown; ;) {
    try {
      const answer = await ask()
      if (answer) return answer
    } catch (error) {
      last = error
    }
    if (Date.now() > end) throw new Error(`${what} did not come true in ${seconds} s; ${last ?? ''}`)
    await new Promise(resolve => setTimeout(resolve, 150))
  }
}
