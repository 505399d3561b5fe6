import type { SentStates } from '@tide/connectors/contract/sent'
import type { JournalKeepers } from './journal/keepers.ts'
import type {
  ConnectionOpener,
  ErrandRepository,
  HeldRepository,
  HistoryRepository,
  RunRepository,
  LeaseRepository,
  PairRepository,
  WebhookRepository,
  PipelineRepository,
  PositionRepository,
  RestorePointRepository,
  SavedQueries,
  Surroundings,
  VerificationRepository,
} from './repositories.ts'

/** What an engine works with. */
export interface EngineParts {
  /** This process among the engines that share the store: its name for people, and the id of its data folder. */
  name: string
  home: string
  pipelines: PipelineRepository
  leases: LeaseRepository
  errands: ErrandRepository
  positions: PositionRepository
  held: HeldRepository
  verifications: VerificationRepository
  history: HistoryRepository
  runs: RunRepository
  queries: SavedQueries
  sent: SentStates
  pairs: PairRepository
  webhooks: WebhookRepository
  restorePoints: RestorePointRepository
  connections: ConnectionOpener
  surroundings: Surroundings
  journals: JournalKeepers
  /** Of the keyed hash that masks are made with; the same wherever the store is. */
  maskKey: Uint8Array
}
