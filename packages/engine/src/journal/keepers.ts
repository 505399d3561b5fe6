import type { LogSide } from '@tide/connectors/contract/source'
import { runsOf } from '@tide/core/definition/pipeline'
import { isId } from '@tide/core/definition/id'
import { join } from 'node:path'
import type { ConnectionOpener, PipelineRepository, Surroundings } from '../repositories.ts'
import { JournalKeeper } from './keeper.ts'
import { JournaledSource } from './source.ts'

/** The journals of this process, one for each connection whose log is followed. */
export class JournalKeepers {
  private readonly folder: string
  private readonly connections: ConnectionOpener
  private readonly pipelines: Pick<PipelineRepository, 'list'>
  private readonly surroundings: Surroundings
  private readonly keepers = new Map<string, JournalKeeper>()

  constructor(
    folder: string,
    connections: ConnectionOpener,
    pipelines: Pick<PipelineRepository, 'list'>,
    surroundings: Surroundings,
  ) {
    this.folder = folder
    this.connections = connections
    this.pipelines = pipelines
    this.surroundings = surroundings
  }

  of(connection: string): JournalKeeper {
    let keeper = this.keepers.get(connection)
    if (!keeper) {
      const open = () => this.connections.open(connection)
      const earlier = async () =>
        (await this.pipelines.list())
          .flatMap(runsOf)
          .filter(({ definition }) => definition.from === connection)
          .filter(
            ({ state, reason }) =>
              !['Draft', 'Ready', 'Finished'].includes(state) && reason?.kind !== 'person',
          )
          .map(({ id, lanes }) => ({ id, tables: lanes.map(({ source }) => source) }))
      keeper = new JournalKeeper(this.folderOf(connection), connection, open, this.surroundings, earlier)
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
