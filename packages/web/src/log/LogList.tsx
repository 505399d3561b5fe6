import type { LogLine } from '@tide/core/definition/pipeline'
import { useInfiniteQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { api } from '../api/client.ts'
import { useLive } from '../api/live.ts'
import { moment } from '../format.ts'
import { findPositions } from '@tide/core/position/find'
import { REWIND } from '../pipelines/rewind/search.ts'
import { Button } from '../parts/Button.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'

const PAGE = 100
const TONES = { info: 'text-ink-3', warning: 'text-ochre', error: 'text-buoy' }
const WORDS = { info: 'note', warning: 'warning', error: 'stopped' }

/** What happened, newest first. `kinds`: of the journals that can be gone back in, from the times and positions of the lines. */
export function LogList({ pipeline, kinds = [] }: { pipeline?: string; kinds?: readonly string[] }) {
  const pipelines = useLive(live => live.pipelines) ?? []
  const log = useInfiniteQuery({
    queryKey: ['log', pipeline],
    queryFn: ({ pageParam }) => {
      const search = new URLSearchParams({
        ...(pipeline ? { pipeline } : {}),
        ...(pageParam ? { before: String(pageParam) } : {}),
      })
      return api<LogLine[]>('GET', `/log?${search}`)
    },
    initialPageParam: 0,
    getNextPageParam: page => (page.length === PAGE ? page.at(-1)!.id : undefined),
    refetchInterval: 5_000,
  })
  const lines = log.data?.pages.flat() ?? []
  const nameOf = (id: string) => pipelines.find(one => one.id === id)?.definition.name ?? id
  if (log.isPending) return null
  return (
    <>
      <ErrorNotice error={log.error} />
      {lines.length === 0 && (
        <p className="py-4 text-ink-2">
          Nothing has been logged yet. Starts, stops, copies and troubles are kept here.
        </p>
      )}
      <table className="w-full text-[13px]">
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
                    {moment(line.at)}
                  </Link>
                ) : (
                  moment(line.at)
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
      {log.hasNextPage && (
        <Button className="mt-3" onClick={() => void log.fetchNextPage()}>
          Earlier
        </Button>
      )}
    </>
  )
}

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
