import type { LogSide } from '@tide/connectors/contract'
import { isId } from '@tide/core/definition/id'
import { join } from 'node:path'
import type { ConnectionOpener, Surroundings } from '../repositories.ts'
import { JournalKeeper } from './keeper.ts'
import { JournaledSource } from './source.ts'

/** The journals of this process, one for each connection whose log is followed. */
export class JournalKeepers {
  private readonly folder: string
  private readonly connections: ConnectionOpener
  private readonly surroundings: Surroundings
  private readonly keepers = new Map<string, JournalKeeper>()

  constructor(folder: string, connections: ConnectionOpener, surroundings: Surroundings) {
    this.folder = folder
    this.connections = connections
    this.surroundings = surroundings
  }

  of(connection: string): JournalKeeper {
    let keeper = this.keepers.get(connection)
    if (!keeper) {
      const open = () => this.connections.open(connection)
      keeper = new JournalKeeper(this.folderOf(connection), connection, open, this.surroundings)
      this.keepers.set(connection, keeper)
    }
    return keeper
  }

  /** The one place where an id becomes a path. */
  private folderOf(connection: string): string {
    if (!isId(connection)) throw new Error(`“${connection}” is no connection’s id`)
    return join(this.folder, connection)
  }

  /** A pipeline's source over this connection's journal; the caller closes it. */
  sourceOf(connection: string, log: LogSide): JournaledSource {
    return new JournaledSource(this.of(connection), log)
  }

  /** Followers that another process has deleted are let go. */
  async keepOnly(pipelines: ReadonlySet<string>): Promise<void> {
    for (const keeper of this.keepers.values()) {
      const gone = keeper.info?.followers.filter(({ pipeline }) => !pipelines.has(pipeline)) ?? []
      for (const { pipeline } of gone) await keeper.abandon(pipeline)
    }
  }

  async close(): Promise<void> {
    await Promise.all([...this.keepers.values()].map(keeper => keeper.close()))
  }
}
