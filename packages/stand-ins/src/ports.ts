/** Where the stand-ins are found. */
import type { Server } from 'node:http'
import { createServer } from 'node:net'

/** `name`: whose port that is, where it is taken. */
export function listen(
  handler: { listen(port: number, host: string): Server },
  port: number,
  name: string,
): Promise<Server> {
  const server = handler.listen(port, '127.0.0.1')
  return new Promise((resolve, reject) => {
    server.once('listening', () => resolve(server))
    server.once('error', error => reject(taken(error, name, port)))
  })
}

export function taken(error: NodeJS.ErrnoException, name: string, port: number): Error {
  if (error.code !== 'EADDRINUSE') return error
  return new Error(
    `Port ${port}, which ${name} of the demo world needs, is taken. Free it, or begin anew in another TIDE_DATA.`,
  )
}

/** Those that are wanted; for each that is not free, another. */
export async function freePorts<T extends Record<string, number>>(wanted: T): Promise<T> {
  const found = Object.entries(wanted).map(async ([name, port]) => [name, await freePort(port)] as const)
  return Object.fromEntries(await Promise.all(found)) as T
}

function freePort(wanted: number): Promise<number> {
  return new Promise((resolve, reject) => {
    const probe = createServer()
    probe.once('error', () => (wanted === 0 ? reject(new Error('No port is free.')) : resolve(freePort(0))))
    probe.listen(wanted, '127.0.0.1', () => {
      const { port } = probe.address() as { port: number }
      probe.close(() => resolve(port))
    })
  })
}
