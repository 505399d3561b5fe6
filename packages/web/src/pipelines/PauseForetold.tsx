import type { JournalAnswer, JournalInfo } from '@tide/core/api/journals'
import type { ReplicationStatus } from '@tide/core/api/pipelines'
import { originsOf } from '@tide/core/definition/origins'
import { roomLeft } from '@tide/core/pace/room'
import { useQueries } from '@tanstack/react-query'
import { api } from '../api/client.ts'
import { bytes, duration } from '../format.ts'
import { Notice } from '../parts/Notice.tsx'

const EVERY_MS = 30_000
/** A pause is seldom longer. */
const SOON_HOURS = 72

/** How long a pipeline can stand still before the journal has no room for what it needs. */
export function PauseForetold({ pipeline }: { pipeline: ReplicationStatus }) {
  const journals = useQueries({
    queries: originsOf(pipeline.definition).map(({ connection }) => ({
      queryKey: ['journal', connection],
      queryFn: () => api<JournalAnswer>('GET', `/connections/${connection}/journal`),
      refetchInterval: EVERY_MS,
    })),
  })
  const rooms = journals.flatMap(({ data }) => (data && !('keptBy' in data) ? (roomOf(data) ?? []) : []))
  const [first] = rooms.sort((a, b) => a.left.hours - b.left.hours)
  if (!first) return null
  const { left, perHour } = first
  const said = `At ${bytes(perHour)} an hour the journal has room for ${roomSaid(left.hours)}`
  if (left.hours > SOON_HOURS)
    return <p className="text-[12px] text-ink-2">What changes meanwhile is kept. {said}.</p>
  return (
    <Notice level="warning" title={`${said}.`}>
      {left.then === 'limit'
        ? 'Then what this pipeline needs goes, and its tables must be copied again. Continue before that, or raise the limit in the connection.'
        : 'Then the disk is full, and the source keeps its log until there is room. Continue before that, or make room.'}
    </Notice>
  )
}

const roomSaid = (hours: number) =>
  hours > 365 * 24 ? 'more than a year' : `about ${duration(hours * 3600)}`

function roomOf(journal: JournalInfo) {
  const hardBytes = journal.retention?.hardBytes ?? 0
  const left = roomLeft({ ...journal, hardBytes })
  return left && { left, perHour: journal.bytesPerHour! }
}
