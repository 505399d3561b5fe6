/** The built server as a process of its own, to be driven, killed and started again. */
import { fork, type ChildProcess } from 'node:child_process'
import { fileURLToPath } from 'node:url'

const script = (name: string) => fileURLToPath(new URL(`../dist/${name}`, import.meta.url))

export interface ServerProcess {
  url: string
  child: ChildProcess
  /** SIGKILL, no goodbye. */
  kill(): Promise<void>
  /** SIGTERM, waits for a clean end; gives the exit code. */
  stop(): Promise<number | null>
}

export async function startServer(dataFolder: string, port = 0, nodeOptions = ''): Promise<ServerProcess> {
  const child = fork(script('server/server.mjs'), {
    env: { ...process.env, NODE_OPTIONS: nodeOptions, TIDE_DATA: dataFolder, TIDE_PORT: String(port) },
    stdio: ['ignore', 'ignore', 'pipe', 'ipc'],
  })
  let said = ''
  child.stderr!.on('data', chunk => (said += chunk))
  const gone = new Promise<number | null>(resolve => child.once('exit', resolve))
  const ready = new Promise<string>((resolve, reject) => {
    child.on('message', (message: { ready?: string }) => message.ready && resolve(message.ready))
    child.once('exit', code => reject(new Error(`The server ended with ${code}: ${said}`)))
  })
  const url = await ready
  const end = (signal: NodeJS.Signals) => () => {
    child.kill(signal)
    return gone // at once, when it has ended already
  }
  return { url, child, kill: async () => void (await end('SIGKILL')()), stop: end('SIGTERM') }
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
