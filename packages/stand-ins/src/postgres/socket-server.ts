/**
 * Lets ordinary PostgreSQL clients use one embedded database, which has a single session. A client's turn lasts from
 * its first message to the end of its query or transaction; others wait. So messages of several clients never mix,
 * and a client that keeps a transaction open and idle is cut off.
 */
import type { PGlite } from '@electric-sql/pglite'
import { createServer, type Server, type Socket } from 'node:net'
import {
  ASK_PASSWORD,
  CANCEL_REQUEST,
  fatal,
  GSS_REQUEST,
  MessageCutter,
  SSL_REQUEST,
  startupParameters,
  transactionStatus,
} from './wire.ts'

/** How long a transaction may stand idle before its client is cut off: the others wait meanwhile. */
export const IDLE_TRANSACTION_MS = 5_000

export interface Access {
  database: string
  user: string
  password: string
}

const [QUERY, SYNC, TERMINATE, PASSWORD, FLUSH] = ['Q', 'S', 'X', 'p', 'H'].map(type => type.charCodeAt(0))

export class PostgresSocketServer {
  private readonly db: PGlite
  private readonly access: Access
  private readonly server: Server
  private readonly clients = new Set<Client>()
  private turn: Client | undefined
  private readonly waiting: { client: Client; go: () => void }[] = []

  constructor(db: PGlite, access: Access) {
    this.db = db
    this.access = access
    this.server = createServer(socket => {
      const client = new Client(socket, this)
      this.clients.add(client)
      socket.on('close', () => this.clients.delete(client))
    })
  }

  listen(port: number): Promise<void> {
    return new Promise((resolve, reject) => {
      this.server.once('error', reject)
      this.server.listen(port, '127.0.0.1', () => resolve())
    })
  }

  async close(): Promise<void> {
    for (const client of this.clients) client.socket.destroy()
    await new Promise(resolve => this.server.close(resolve))
  }

  /** Why this client may not come in, if so. */
  refuse(parameters: Map<string, string>, password: string): Buffer | undefined {
    const user = parameters.get('user') ?? ''
    const database = parameters.get('database') ?? user
    if (user !== this.access.user || password !== this.access.password) {
      return fatal('28P01', `password authentication failed for user "${user}"`)
    }
    if (database !== this.access.database) return fatal('3D000', `database "${database}" does not exist`)
    return undefined
  }

  /** Waits until it is the client's turn; its own messages within a turn go on at once. */
  take(client: Client): Promise<void> {
    if (this.turn === client) return Promise.resolve()
    if (!this.turn) {
      this.turn = client
      return Promise.resolve()
    }
    return new Promise(go => this.waiting.push({ client, go }))
  }

  release(client: Client): void {
    if (this.turn !== client) return
    const next = this.waiting.shift()
    this.turn = next?.client
    next?.go()
  }

  async run(message: Uint8Array): Promise<Buffer> {
    const parts: Uint8Array[] = []
    await this.db.runExclusive(() =>
      this.db.execProtocolRawStream(message, { onRawData: data => parts.push(Uint8Array.from(data)) }),
    )
    return Buffer.concat(parts)
  }

  async rollback(): Promise<void> {
    await this.db.exec('ROLLBACK')
  }
}

class Client {
  readonly socket: Socket
  private readonly server: PostgresSocketServer
  private readonly cutter = new MessageCutter()
  private startup: Buffer | undefined
  private admitted = false
  private inTransaction = false
  private idle: NodeJS.Timeout | undefined
  private work: Promise<void> = Promise.resolve()

  constructor(socket: Socket, server: PostgresSocketServer) {
    this.socket = socket
    this.server = server
    socket.setNoDelay(true)
    socket.on('error', () => {}) // followed by close
    socket.on('data', bytes => {
      for (const message of this.cutter.take(bytes)) this.work = this.work.then(() => this.handle(message))
      this.work = this.work.catch(error => this.end(fatal('XX000', (error as Error).message)))
    })
    socket.on('close', () => {
      clearTimeout(this.idle)
      this.work = this.work.then(() => this.leave())
    })
  }

  private async handle(message: Buffer): Promise<void> {
    if (this.socket.destroyed) return
    if (!this.cutter.started) return this.start(message)
    if (!this.admitted) return this.signIn(message)
    const type = message[0]
    if (type === TERMINATE) return void this.socket.end()
    clearTimeout(this.idle)
    await this.server.take(this)
    const answer = await this.server.run(message)
    if (answer.length > 0) this.socket.write(answer)
    if (type !== QUERY && type !== SYNC && type !== FLUSH) return
    const status = transactionStatus(answer)
    if (status === undefined) return
    this.inTransaction = status !== 'I'
    if (!this.inTransaction) return this.server.release(this)
    this.idle = setTimeout(() => {
      const seconds = IDLE_TRANSACTION_MS / 1000
      this.end(
        fatal('25P03', `terminating connection: the transaction stood idle for ${seconds} s and others wait`),
      )
    }, IDLE_TRANSACTION_MS)
  }

  private start(message: Buffer): void {
    const code = message.readInt32BE(4)
    if (code === SSL_REQUEST || code === GSS_REQUEST) return void this.socket.write('N')
    if (code === CANCEL_REQUEST) return void this.socket.end()
    this.startup = Buffer.from(message)
    this.cutter.started = true
    this.socket.write(ASK_PASSWORD)
  }

  private async signIn(message: Buffer): Promise<void> {
    if (message[0] !== PASSWORD) return this.end(fatal('08P01', 'a password message was expected'))
    const password = message.subarray(5, -1).toString('utf8')
    const refusal = this.server.refuse(startupParameters(this.startup!), password)
    if (refusal) return this.end(refusal)
    await this.server.take(this)
    const answer = await this.server.run(this.startup!)
    this.admitted = true
    this.socket.write(answer)
    this.server.release(this)
  }

  private end(last: Buffer): void {
    this.socket.end(last)
    this.socket.destroySoon()
  }

  /** A client that leaves in the middle of its turn takes its transaction with it. */
  private async leave(): Promise<void> {
    try {
      if (this.inTransaction) await this.server.rollback()
    } finally {
      this.server.release(this)
    }
  }
}
