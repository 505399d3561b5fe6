import type { JournalAnswer, JournalFollower, JournalInfo } from '@tide/core/api/journals'
import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { api } from '../api/client.ts'
import { bytes, clock, duration, moment, plural } from '../format.ts'
import { Copyable } from '../parts/Copyable.tsx'
import { DataTable, type Column } from '../parts/DataTable.tsx'
import { Figure } from '../parts/Figure.tsx'
import { Notice } from '../parts/Notice.tsx'

const EVERY_MS = 2_000

/** The source's journal: how much it holds, how far it is behind the source, who reads it and where. */
export function JournalSection({ connection }: { connection: string }) {
  const journal = useQuery({
    queryKey: ['journal', connection],
    queryFn: () => api<JournalAnswer>('GET', `/connections/${connection}/journal`),
    refetchInterval: EVERY_MS,
  }).data
  if (!journal) return null
  if ('keptBy' in journal) {
    return (
      <section className="mt-4 border-t border-line-2 pt-3" aria-label="Journal">
        <h2 className="text-[14px]">Journal</h2>
        <p className="py-1 text-[13px] text-ink-2">
          The engine <b className="text-ink">{journal.keptBy}</b> keeps it in its own data folder; its figures
          are on that engine’s pages.
        </p>
      </section>
    )
  }
  const { start, end, head, retention } = journal
  const span = start.at && end.at ? (Date.parse(end.at) - Date.parse(start.at)) / 1000 : undefined
  const columns: Column<JournalFollower>[] = [
    {
      title: 'Read by',
      cell: one => (
        <Link className="text-link underline" to={`/pipelines/${one.pipeline}`}>
          {one.name}
        </Link>
      ),
      by: one => one.name,
    },
    {
      title: 'Needs what follows',
      cell: one => <Copyable text={one.position} className="font-mono text-[12px]" />,
    },
    {
      title: 'Behind the end',
      cell: one => (one.bytesBehind === 0 ? 'at the end' : `about ${bytes(one.bytesBehind)}`),
      by: one => one.bytesBehind,
      align: 'right',
    },
  ]
  return (
    <section className="mt-4 border-t border-line-2 pt-3" aria-label="Journal">
      <div className="flex items-baseline gap-3">
        <h2 className="text-[14px]">Journal</h2>
        <p className="flex-1 text-[13px] text-ink-2">{stateOf(journal)}</p>
        <a
          className="text-[13px] text-link underline"
          href={`/api/connections/${connection}/journal/changes`}
          download
        >
          Save as JSON Lines
        </a>
      </div>
      {journal.fault && (
        <Notice level="refused" title={journal.fault.message}>
          {journal.fault.remedy}
        </Notice>
      )}
      {journal.diskTrouble && (
        <Notice
          level="warning"
          title={`The disk does not take the journal: ${journal.diskTrouble.replace(/\.$/, '')}.`}
        >
          Make room in the data folder; reading goes on by itself. Until then the source keeps its log.
        </Notice>
      )}
      {journal.retry && !journal.fault && (
        <Notice level="warning" title={journal.retry.message}>
          {journal.retry.remedy}
        </Notice>
      )}
      <dl className="flex flex-wrap gap-y-2 py-2">
        <Figure
          label="Holds"
          value={bytes(journal.bytes)}
          unit={`in ${plural(journal.segments, 'segment')}`}
        />
        <Figure
          label="Span"
          value={span === undefined ? '–' : duration(span)}
          title={start.at ? `the oldest change is of ${moment(start.at)}` : undefined}
        />
        <Figure
          label="Complete up to"
          value={journal.completeUpTo ? clock(journal.completeUpTo) : '–'}
          title={journal.completeUpTo ? `${moment(journal.completeUpTo)}, by the source’s clock` : undefined}
        />
      </dl>
      <dl className="flex flex-wrap gap-y-2 pb-2">
        <Figure label="From" value={<Copyable text={start.position} className="text-[13px]" />} />
        <Figure label="To" value={<Copyable text={end.position} className="text-[13px]" />} />
        <Figure
          label="The source is at"
          value={head ? <Copyable text={head} className="text-[13px]" /> : '–'}
        />
      </dl>
      <DataTable
        label="Who reads the journal"
        columns={columns}
        rows={journal.followers}
        rowKey={one => one.pipeline}
      />
      {retention && (
        <p className="py-1 text-[12px] text-ink-2">
          What nobody needs any more is kept for {plural(retention.hours, 'hour')}, up to{' '}
          {Math.round(retention.bytes / 2 ** 30)} GiB
          {retention.hardBytes > 0 &&
            `; beyond ${Math.round(retention.hardBytes / 2 ** 30)} GiB even what is needed goes`}
          .
        </p>
      )}
    </section>
  )
}

function stateOf({ fault, retry, heardAt }: JournalInfo): string {
  if (fault) return 'Stopped: the source cannot be followed any more.'
  if (retry) return `Waiting for the source, try ${retry.attempt}.`
  return heardAt ? 'Reading the source’s changes.' : 'The source has not been heard for a while.'
}
