/** Puts store, connectors and engine together. */
import type { Config, Connector, Session } from '@tide/connectors/contract/session'
import type { SentStates } from '@tide/connectors/contract/sent'
import { connectors } from '@tide/connectors/registry'
import { FileSentStates } from '@tide/connectors/sent/sent-states'
import { Failure } from '@tide/core/failure'
import { Engine } from '@tide/engine/engine'
import { JournalKeepers } from '@tide/engine/journal/keepers'
import type { ConnectionOpener, Surroundings } from '@tide/engine/repositories'
import type { Store } from '@tide/store/store'
import { randomBytes } from 'node:crypto'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import { CheckedConnections } from './checked.ts'
import type { DataFolder } from './data-folder.ts'
import { FullRehearsals } from './full-rehearsals.ts'
import { Questions } from './questions.ts'
import { SessionCache } from './sessions.ts'
import { ShownPlans } from './shown-plans.ts'

export interface Services {
  version: string
  dataFolder: string
  /** The data folder's id, which pipelines can be tied to. */
  home: string
  store: Store
  engine: Engine
  /** What was sent into apps. */
  sent: SentStates
  journals: JournalKeepers
  sessions: SessionCache
  questions: Questions
  rehearsals: FullRehearsals
  shownPlans: ShownPlans
  checked: CheckedConnections
  /** The address under which apps reach this server, once that is known. */
  reached: { at: string | undefined }
  connector(kind: string): Connector
  /** Into the log of the process; `number`: by which it was told of. */
  warn(error: Error, number?: string): void
  close(): Promise<void>
}

const NAMES_HOLD_MS = 5_000

const surroundings: Surroundings = {
  now: Date.now,
  random: Math.random,
  sleep: (milliseconds, signal) => sleep(milliseconds, undefined, { signal }).catch(() => {}),
  newId: () => randomBytes(5).toString('hex'),
}

export const newId = surroundings.newId

export async function composeServices(
  store: Store,
  version: string,
  { folder: dataFolder, name, home }: DataFolder,
): Promise<Services> {
  const connector = (kind: string): Connector => {
    const found = connectors.find(connector => connector.kind === kind)
    if (!found)
      throw new Failure('refused', `There is no connector “${kind}”.`, 'Choose one of the catalogue.')
    return found
  }
  // For a moment only: another process that shares the store may change them.
  const names = new Map<string, { name: string; connector: Connector; at: number }>()
  const opener: ConnectionOpener = {
    open: async (id): Promise<Session> => {
      const { kind, config } = await openable(id)
      return connector(kind).open(config, secrets => store.connections.keepSecrets(id, secrets))
    },
    describe: async id => {
      const known = names.get(id)
      if (known && Date.now() - known.at < NAMES_HOLD_MS) return known
      const record = await store.connections.get(id)
      if (!record) return undefined
      const described = { name: record.name, connector: connector(record.kind), at: Date.now() }
      names.set(id, described)
      return described
    },
  }
  const openable = async (id: string): Promise<{ kind: string; config: Config }> => {
    const record = await store.connections.openable(id)
    if (!record)
      throw new Failure(
        'structural',
        'The connection is not there any more.',
        'Choose another one in the setup.',
      )
    return record
  }
  const reached: Services['reached'] = { at: undefined }
  const sent = new FileSentStates(join(dataFolder, 'sent'))
  const journals = new JournalKeepers(join(dataFolder, 'journal'), opener, store.pipelines, surroundings)
  const engine = new Engine({
    name,
    home,
    journals,
    leases: store.leases,
    errands: store.errands,
    positions: store.positions,
    held: store.held,
    verifications: store.verifications,
    pipelines: store.pipelines,
    history: store.history,
    runs: store.runs,
    queries: store.queries,
    sent,
    pairs: store.pairs,
    restorePoints: store.restorePoints,
    webhooks: {
      of: id => store.webhooks.of(id),
      keep: hook => store.webhooks.keep(hook),
      forget: ids => store.webhooks.forget(ids),
      urlOf: id => (reached.at === undefined ? undefined : `${reached.at}/api/hooks/${id}`),
    },
    connections: opener,
    maskKey: store.maskKey,
    surroundings,
  })
  const sessions = new SessionCache(opener, id => names.delete(id))
  const questions = new Questions()
  await engine.start()
  return {
    version,
    dataFolder,
    home,
    store,
    engine,
    sent,
    journals,
    sessions,
    questions,
    rehearsals: new FullRehearsals(sessions, questions, store.maskKey),
    shownPlans: new ShownPlans(),
    checked: new CheckedConnections(store, connector),
    reached,
    connector,
    warn: (error, number) =>
      void process.stderr.write(`${number ? `${number}: ` : ''}${error.stack ?? error.message}\n`),
    close: async () => {
      questions.close()
      await engine.stop()
      await sessions.close()
      await store.close()
    },
  }
}
