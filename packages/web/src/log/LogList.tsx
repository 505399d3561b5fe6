import type { LogLine } from '@tide/core/definition/log'
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { api } from '../api/client.ts'
import { useLive } from '../api/live.ts'
import { clock, moment } from '../format.ts'
import { findPositions } from '@tide/core/position/find'
import { REWIND } from '../pipelines/rewind/search.ts'
import { Button } from '../parts/Button.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { LogFilter } from './LogFilter.tsx'
import { logParams, useLogSearch } from './search.ts'

const PAGE = 100
const TONES = { detail: 'text-ink-3', info: 'text-ink-3', warning: 'text-ochre', error: 'text-buoy' }
const WORDS = { detail: 'detail', info: 'note', warning: 'warning', error: 'stopped' }

/** What happened, newest first. `kinds`: of the journals that can be gone back in, from the times and positions of the lines. */
export function LogList({ pipeline, kinds = [] }: { pipeline?: string; kinds?: readonly string[] }) {
  const pipelines = useLive(live => live.pipelines) ?? []
  const search = useLogSearch(pipeline)
  const asked = logParams(search.query)
  const log = useInfiniteQuery({
    queryKey: ['log', asked.toString()],
    queryFn: ({ pageParam, signal }) => {
      const page = pageParam ? `&before=${pageParam}` : ''
      return api<LogLine[]>('GET', `/log?${asked}${page}`, undefined, signal)
    },
    placeholderData: keepPreviousData,
    initialPageParam: 0,
    getNextPageParam: page => (page.length === PAGE ? page.at(-1)!.id : undefined),
    refetchInterval: 2_000,
  })
  const lines = log.data?.pages.flat() ?? []
  const nameOf = (id: string) => pipelines.find(one => one.id === id)?.definition.name ?? id
  return (
    <>
      <LogFilter search={search} pipeline={pipelines.find(({ id }) => id === pipeline)} />
      <ErrorNotice error={log.error} />
      {log.isSuccess && lines.length === 0 && (
        <p className="py-4 text-ink-2">
          {search.narrowed
            ? 'Nothing of what is looked for was logged.'
            : 'Nothing has been logged yet. Starts, stops, copies and troubles are kept here.'}
        </p>
      )}
      {byDay(lines).map(([day, lines]) => (
        <table key={day} className="mb-4 w-full text-[13px]">
          <caption className="border-b border-line-2 py-1 text-left font-semibold">{day}</caption>
          <tbody>
            {lines.map(line => (
              <tr key={line.id} className="border-b border-line align-top">
                <td className="py-1.5 pr-4 font-mono text-[12px] whitespace-nowrap text-ink-2">
                  {kinds.length > 0 ? (
                    <Link
                      to={rewindTo(line.at)}
                      title="Rewind to this time"
                      className="decoration-line-2 underline-offset-2 hover:underline"
                    >
                      {clock(line.at)}
                    </Link>
                  ) : (
                    <time dateTime={line.at} title={moment(line.at)}>
                      {clock(line.at)}
                    </time>
                  )}
                </td>
                <td
                  className={`py-1.5 pr-4 whitespace-nowrap ${line.byPerson ? 'text-link' : TONES[line.level]}`}
                >
                  {line.byPerson ? 'a person' : WORDS[line.level]}
                </td>
                {!pipeline && (
                  <td className="py-1.5 pr-4 whitespace-nowrap">
                    {line.pipeline && (
                      <Link
                        className="underline decoration-line-2 underline-offset-2"
                        to={`/pipelines/${line.pipeline}`}
                      >
                        {nameOf(line.pipeline)}
                      </Link>
                    )}
                  </td>
                )}
                <td className="w-full py-1.5">
                  <WithPositions text={line.message} whose={whoseOf(line.message)} kinds={kinds} />
                  {line.remedy && <span className="block text-ink-2">{line.remedy}</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      ))}
      {log.hasNextPage && (
        <Button className="mt-3" onClick={() => void log.fetchNextPage()}>
          Earlier
        </Button>
      )}
    </>
  )
}

/** In the order in which they stand. */
function byDay(lines: readonly LogLine[]): [day: string, lines: LogLine[]][] {
  const days = new Map<string, LogLine[]>()
  for (const line of lines) {
    const day = longDay(line.at)
    const others = days.get(day)
    if (others) others.push(line)
    else days.set(day, [line])
  }
  return [...days]
}

const longDay = (at: string) =>
  new Date(at).toLocaleDateString('en-GB', {
    weekday: 'long',
    day: 'numeric',
    month: 'long',
    year: 'numeric',
  })

const rewindTo = (text: string) => ({ search: `?${new URLSearchParams({ [REWIND]: text })}` })

/** What is of one origin begins with that. */
const whoseOf = (message: string) => /^[^:]{1,60}: /.exec(message)?.[0] ?? ''

interface WithPositionsProps {
  text: string
  whose: string
  kinds: readonly string[]
}

/** The positions in a text lead back to them. */
function WithPositions({ text, whose, kinds }: WithPositionsProps) {
  const positions = kinds.flatMap(kind => findPositions(kind, text)).filter(one => text.includes(one))
  const [position] = positions
  if (position === undefined) return <>{text}</>
  const [before, ...rest] = text.split(position)
  return (
    <>
      {before}
      <Link
        to={rewindTo(whose + position)}
        title="Rewind to this position"
        className="font-mono text-[12px] underline decoration-line-2 underline-offset-2"
      >
        {position}
      </Link>
      <WithPositions text={rest.join(position)} whose={whose} kinds={kinds} />
    </>
  )
}
