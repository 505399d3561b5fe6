import type { JournalKeepers } from './journal/keepers.ts'
import type { ConnectionOpener, HistoryRepository, PipelineRepository, Surroundings } from './repositories.ts'

/** What an engine works with. */
export interface EngineParts {
  pipelines: PipelineRepository
  history: HistoryRepository
  connections: ConnectionOpener
  surroundings: Surroundings
  journals: JournalKeepers
}
