import { probeFolder } from '@tide/connectors/folder-probe'
import { Failure } from '@tide/core/failure'
import { open, realpath, rm } from 'node:fs/promises'
import { connect, createServer, type Server } from 'node:net'
import { join } from 'node:path'

/** Longer paths cannot name a socket; then it is reached by way of the open folder. */
const LONGEST_SOCKET_PATH = 100

/**
 * One server per data folder. Holding a local socket in the folder says that somebody is there, and a process that was
 * killed holds it no longer. Throws a Failure when the folder is taken or cannot be written.
 */
export async function lockFolder(folder: string): Promise<() => Promise<void>> {
  await probeFolder(folder, 'Set TIDE_DATA to one that can be written.')
  const real = await realpath(folder)
  const whole = join(real, 'server.lock')
  const opened = Buffer.byteLength(whole) > LONGEST_SOCKET_PATH ? await open(real) : undefined
  const path = opened ? `/proc/self/fd/${opened.fd}/server.lock` : whole
  let server = await listen(path)
  if (!server) {
    if (await answers(path)) {
      throw new Failure(
        'refused',
        `Another server works on the data folder ${folder}.`,
        'Stop it, or set TIDE_DATA to another folder.',
      )
    }
    await rm(path, { force: true }) // left behind by a process that was killed
    server = await listen(path)
  }
  if (!server)
    throw new Failure('refused', `Another server takes the data folder ${folder} just now.`, 'Try again.')
  const held = server
  return async () => {
    await new Promise<void>(resolve => held.close(() => resolve()))
    await opened?.close()
  }
}

function listen(path: string): Promise<Server | undefined> {
  const server = createServer(socket => socket.destroy())
  return new Promise((resolve, reject) => {
    server.once('error', (error: NodeJS.ErrnoException) =>
      error.code === 'EADDRINUSE' ? resolve(undefined) : reject(error),
    )
    server.listen(path, () => {
      server.unref()
      resolve(server)
    })
  })
}

function answers(path: string): Promise<boolean> {
  return new Promise(resolve => {
    const socket = connect(path)
    socket.once('connect', () => {
      socket.destroy()
      resolve(true)
    })
    socket.once('error', () => resolve(false))
  })
}
