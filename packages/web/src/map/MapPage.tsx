import type { ConnectionInfo, ConnectorInfo } from '@tide/core/api/connections'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { originsOf } from '@tide/core/definition/origins'
import { gathersSeconds } from '@tide/core/definition/files'
import { tint } from '@tide/core/pace/lag'
import { useEffect, useRef, useState, type ReactNode } from 'react'
import { Link } from 'react-router'
import { useLive } from '../api/live.ts'
import { useConnections, useConnectors } from '../api/queries.ts'
import { count, duration, plural } from '../format.ts'
import { useWhere } from '../frame/crumbs.ts'
import { ButtonLink } from '../parts/Button.tsx'
import { copyShare } from '../parts/StateWord.tsx'
import { ForPerson } from './ForPerson.tsx'
import { JoinTarget } from './JoinTarget.tsx'
import { waysBetween } from './joining.ts'
import { BOX, layOut } from './layout.ts'

const BANDS = ['Workplace apps', 'Operational databases', 'Warehouses and files']
const BAND_OF = { apps: 0, databases: 1, warehouses: 2, files: 2 }
const TINTS = ['water-1', 'water-1', 'water-2', 'water-3', 'water-4'].map(name => `var(--color-${name})`)

interface Point {
  x: number
  y: number
}

/** Somebody joins a system with another. */
interface Joining {
  from: string
  /** Where the pointer is that draws a line, and where that began; undefined: no pointer does. */
  at?: Point | undefined
  begun?: Point | undefined
  /** With which; it is asked what is to begin. */
  to?: string | undefined
}

/** Pipelines between the same two systems are one ribbon. */
interface Route {
  id: string
  from: string
  to: string
  /** As far as they go along it. */
  pipelines: PipelineStatus[]
  whole: PipelineStatus[]
}

/** All systems and pipelines in one picture; beside it, what needs a person. */
export function MapPage() {
  useWhere({ title: 'Map' })
  const pipelines = useLive(live => live.pipelines)
  const connections = useConnections().data
  if (!pipelines || !connections) return null
  return (
    <main className="flex min-w-0 flex-1">
      <h1 className="sr-only">Map of systems and pipelines</h1>
      <Picture connections={connections} pipelines={pipelines} />
      <ForPerson connections={connections} pipelines={pipelines} />
    </main>
  )
}

function Picture({ connections, pipelines }: { connections: ConnectionInfo[]; pipelines: PipelineStatus[] }) {
  const box = useRef<HTMLDivElement>(null)
  const [size, setSize] = useState({ width: 900, height: 700 })
  const [joining, setJoining] = useState<Joining>()
  const connectors = useConnectors().data ?? []
  useEffect(() => {
    const watch = new ResizeObserver(([entry]) =>
      setSize({ width: entry!.contentRect.width, height: entry!.contentRect.height }),
    )
    watch.observe(box.current!)
    return () => watch.disconnect()
  }, [])
  const systems = connections.map(({ id, kind }) => ({
    id,
    band: BAND_OF[connectors.find(connector => connector.kind === kind)?.band ?? 'databases'],
  }))
  const routes = routesOf(
    pipelines.filter(
      ({ lanes, definition, state }) =>
        lanes.length > 0 || (definition.shape !== 'replicate' && state !== 'Draft'),
    ),
    new Set(connections.map(({ id }) => id)),
  )
  // A band without systems is a strip, the others share the height.
  const used = BANDS.map((_, band) => systems.length === 0 || systems.some(system => system.band === band))
  const empty = 64
  const each =
    (size.height - empty * used.filter(one => !one).length) / Math.max(1, used.filter(Boolean).length)
  const heights = used.map(one => (one ? each : empty))
  const tops = heights.map((_, i) => heights.slice(0, i).reduce((sum, height) => sum + height, 0))
  const layout = layOut(systems, routes, size.width, heights)
  const joined = connections.find(({ id }) => id === joining?.from)
  const isLine = joining?.at !== undefined && joining.to === undefined
  const line = joined && isLine ? { from: layout.systems.get(joined.id)!, to: joining.at! } : undefined
  const inBox = ({ clientX, clientY }: { clientX: number; clientY: number }): Point => {
    const { left, top } = box.current!.getBoundingClientRect()
    return { x: clientX - left, y: clientY - top }
  }
  return (
    <div
      ref={box}
      className="relative min-w-0 flex-1 overflow-hidden"
      onPointerMove={event => {
        if (isLine) setJoining({ ...joining, at: inBox(event) })
      }}
      onPointerUp={event => {
        if (!isLine) return
        const over = document.elementFromPoint(event.clientX, event.clientY)?.closest('[data-system]')
        const to = over?.getAttribute('data-system') ?? undefined
        const at = inBox(event)
        const moved = joining.begun && Math.hypot(at.x - joining.begun.x, at.y - joining.begun.y) > 8
        // A click lets one choose by another click.
        if (to === undefined) setJoining(moved ? undefined : { from: joining.from })
        else setJoining({ from: joining.from, to })
      }}
      onKeyDown={event => {
        if (event.key !== 'Escape' || !joining || joining.to !== undefined) return
        setJoining(undefined)
        box.current!.querySelector<HTMLElement>(`[data-joins="${joining.from}"]`)?.focus()
      }}
    >
      {BANDS.map((title, band) => (
        <div
          key={title}
          className={`absolute inset-x-0 border-line ${band > 0 ? 'border-t' : ''} ${['bg-paper', 'bg-paper-2', 'bg-line/45'][band]}`}
          style={{ top: tops[band], height: heights[band] }}
        >
          <h2 className="px-4 pt-2.5 text-[13px] text-ink-2">
            {title}
            {!systems.some(system => system.band === band) && (
              <span className="ml-2 font-normal text-ink-3">none connected</span>
            )}
          </h2>
        </div>
      ))}
      <svg className="absolute inset-0 h-full w-full" aria-hidden>
        {routes.map(route => {
          const { path, begin, end } = layout.ribbons.get(route.id)!
          const bothWays = route.pipelines.some(({ definition }) => definition.shape === 'two-way')
          const { thickness, colour, broken } = look(route)
          return (
            <g key={route.id}>
              <path d={path} fill="none" stroke="var(--color-ink-2)" strokeWidth={thickness + 2} />
              <path d={path} fill="none" stroke={colour} strokeWidth={thickness} />
              {broken && (
                <path
                  d={path}
                  fill="none"
                  stroke="var(--color-paper-2)"
                  strokeWidth={thickness + 4}
                  strokeDasharray="14 10000"
                  strokeDashoffset={-40}
                />
              )}
              {(bothWays ? [begin, end] : [end]).map(({ x, y, down }) => (
                <path
                  key={x}
                  d={down ? `M${x - 8},${y - 11} h16 L${x},${y} Z` : `M${x - 8},${y + 11} h16 L${x},${y} Z`}
                  fill="var(--color-ink-2)"
                />
              ))}
            </g>
          )
        })}
        {line && (
          <path
            d={`M${line.from.x},${line.from.y} L${line.to.x},${line.to.y}`}
            stroke="var(--color-link)"
            strokeWidth={3}
            strokeDasharray="6 4"
          />
        )}
      </svg>
      {labelled(routes).map(({ route, pipelines }) => (
        <RouteLabel
          key={route.id}
          pipelines={pipelines}
          at={inside(layout.ribbons.get(route.id)!.label, size.width)}
        />
      ))}
      {connections.map(connection => {
        const ways = (to: ConnectionInfo) => waysOf(connectors, connection, to)
        const isJoined = joining?.from === connection.id
        const targets = joined ? connections.filter(to => waysOf(connectors, joined, to).length > 0) : []
        return (
          <System
            key={connection.id}
            connection={connection}
            title={connectors.find(({ kind }) => kind === connection.kind)?.title ?? ''}
            at={layout.systems.get(connection.id)!}
            routes={routes}
            join={
              connections.some(other => other !== connection && ways(other).length > 0)
                ? at => setJoining({ from: connection.id, at, begun: at })
                : undefined
            }
          >
            {joined && !isJoined && (
              <JoinTarget
                from={joined}
                to={connection}
                ways={waysOf(connectors, joined, connection)}
                chosen={joining?.to === connection.id}
                choose={chosen =>
                  setJoining(joining && { ...joining, to: chosen ? connection.id : undefined })
                }
                first={joining?.at === undefined && targets.find(to => to !== joined) === connection}
              />
            )}
          </System>
        )
      })}
      {joined && (
        <p role="status" className="absolute inset-x-0 top-2 z-30 text-center text-[13px] font-semibold">
          <span className="border border-ink bg-paper-3 px-3 py-1">
            Choose the system to join {joined.name} with; Escape leaves it.
          </span>
        </p>
      )}
      {connections.length === 0 && <Empty />}
    </div>
  )
}

function waysOf(
  connectors: readonly ConnectorInfo[],
  from: ConnectionInfo,
  to: ConnectionInfo,
): ReturnType<typeof waysBetween> {
  const kindOf = ({ kind }: ConnectionInfo) => connectors.find(one => one.kind === kind)
  const [one, two] = [kindOf(from), kindOf(to)]
  return one && two && from.id !== to.id ? waysBetween(one, two) : []
}

function Empty() {
  return (
    <div className="absolute inset-x-0 top-1/3 mx-auto w-[440px] border border-line-2 bg-paper-3 p-5">
      <h2 className="text-[17px]">Nothing is connected yet</h2>
      <p className="my-2 text-ink-2">
        Say how to reach a database to read from and a warehouse to write to. Then a pipeline copies the
        tables you choose and follows every change.
      </p>
      <ButtonLink look="filled" to="/connections/new">
        Add the first connection
      </ButtonLink>
    </div>
  )
}

function routesOf(pipelines: readonly PipelineStatus[], known: ReadonlySet<string>): Route[] {
  const routes = new Map<string, Route>()
  for (const pipeline of pipelines) {
    const { to } = pipeline.definition
    for (const { connection: from } of originsOf(pipeline.definition)) {
      if (!known.has(from) || !known.has(to)) continue
      const id = `${from} ${to}`
      const route = routes.get(id) ?? { id, from, to, pipelines: [], whole: [] }
      route.whole.push(pipeline)
      route.pipelines.push(alongRoute(pipeline, from))
      routes.set(id, route)
    }
  }
  return [...routes.values()]
}

/** Of a pipeline with several origins, what comes from one of them. */
function alongRoute(pipeline: PipelineStatus, from: string): PipelineStatus {
  const origin = pipeline.origins.find(({ connection }) => connection === from)
  return origin ? { ...pipeline, ...origin, id: pipeline.id } : pipeline
}

/** Thickness is the rate, tint the lag, a break a stop. */
function look({ pipelines }: Route): { thickness: number; colour: string; broken: boolean } {
  const rate = pipelines.reduce((sum, { landedPerMinute }) => sum + landedPerMinute, 0)
  // What was told to wait is not late before that is over.
  const lag = Math.max(
    0,
    ...pipelines.map(({ lagSeconds, definition }) => (lagSeconds ?? 0) - gathersSeconds(definition)),
  )
  return {
    thickness: Math.min(16, 4 + Math.log2(1 + rate / 10) * 1.5),
    colour: TINTS[tint(lag)]!,
    broken: pipelines.some(({ state }) => state === 'Stopped' || state === 'Paused'),
  }
}

/** A pipeline with several origins is named once, in the middle of its routes, and as a whole. */
function labelled(routes: readonly Route[]): { route: Route; pipelines: PipelineStatus[] }[] {
  const along = new Map<string, Route[]>()
  for (const route of routes)
    for (const { id } of route.whole) along.set(id, [...(along.get(id) ?? []), route])
  return routes.flatMap(route => {
    const pipelines = route.whole.filter(({ id }) => {
      const own = along.get(id)!
      return own[(own.length - 1) >> 1] === route
    })
    return pipelines.length > 0 ? [{ route, pipelines }] : []
  })
}

/** About half as wide as a label is. */
const LABEL_HALF = 170

/** So that nothing of it is cut off at the edge. */
function inside({ x, y }: Point, width: number): Point {
  return { x: Math.max(LABEL_HALF, Math.min(x, width - LABEL_HALF)), y }
}

function RouteLabel({ pipelines, at }: { pipelines: PipelineStatus[]; at: { x: number; y: number } }) {
  const [only] = pipelines
  const to = pipelines.length === 1 ? `/pipelines/${only!.id}` : '/pipelines'
  return (
    <Link
      to={to}
      className="absolute z-10 -translate-x-1/2 -translate-y-1/2 border border-line-2 bg-paper-3 px-2 py-0.5 text-center text-[12.5px] whitespace-nowrap hover:border-ink-3"
      style={{ left: at.x, top: at.y }}
    >
      <b>{pipelines.length === 1 ? only!.definition.name : plural(pipelines.length, 'pipeline')}</b>
      <span className="ml-2 text-ink-2">{summary(pipelines)}</span>
    </Link>
  )
}

function summary(pipelines: readonly PipelineStatus[]): ReactNode {
  const stopped = pipelines.filter(({ state }) => state === 'Stopped').length
  if (stopped > 0)
    return (
      <span className="font-semibold text-buoy">
        {pipelines.length === 1 ? 'stopped' : `${stopped} stopped`}
      </span>
    )
  const copying = pipelines.find(({ state }) => state === 'Copying')
  if (copying) return `copying ${Math.floor(copyShare(copying) * 100)} %`
  if (pipelines.every(({ state }) => state === 'Paused'))
    return <span className="font-semibold text-ochre">paused</span>
  if (pipelines.every(({ definition }) => definition.shape === 'two-way')) {
    const pairs = pipelines.map(({ twoWay }) => twoWay?.pairs)
    return pairs.every(one => typeof one === 'number')
      ? `${count(pairs.reduce((sum, one) => sum + one, 0))} pairs`
      : 'both ways'
  }
  if (pipelines.every(({ definition }) => definition.shape === 'send')) {
    const [only] = pipelines
    return only!.state === 'Sending'
      ? 'sending'
      : typeof only!.send?.sent !== 'number'
        ? 'waits'
        : `${count(only!.send.sent)} sent`
  }
  const lags = pipelines.flatMap(({ lagSeconds }) => (lagSeconds === null ? [] : [lagSeconds]))
  const rate = pipelines.reduce((sum, { landedPerMinute }) => sum + landedPerMinute, 0)
  return `${lags.length === 0 ? 'lag unknown' : duration(Math.max(...lags))}, ${count(rate)}/min`
}

interface SystemProps {
  connection: ConnectionInfo
  title: string
  at: Point
  routes: Route[]
  /** Begins to join it with another, from where the pointer is; undefined: it can be joined with none. */
  join: ((at: Point | undefined) => void) | undefined
  children: ReactNode
}

function System({ connection, title, at, routes, join, children }: SystemProps) {
  const sends = routes.some(route => route.from === connection.id)
  const rate = routes
    .filter(route => (sends ? route.from : route.to) === connection.id)
    .flatMap(route => route.pipelines)
    .reduce((sum, { landedPerMinute }) => sum + landedPerMinute, 0)
  const failed = (connection.lastCheck?.failed ?? 0) > 0
  const stopped = routes.some(
    route =>
      route.to === connection.id &&
      route.pipelines.some(({ state, reason }) => state === 'Stopped' && reason?.kind !== 'person'),
  )
  return (
    <div
      className="group absolute z-20"
      style={{ left: at.x - BOX.width / 2, top: at.y - BOX.height / 2, width: BOX.width }}
    >
      <Link
        to={`/connections/${connection.id}`}
        className={`block rounded-sm border bg-paper-3 px-3 py-1.5 ${failed || stopped ? 'border-buoy-mark' : 'border-ink'}`}
        style={{ height: BOX.height }}
      >
        <span className="block overflow-hidden leading-tight font-semibold text-ellipsis whitespace-nowrap">
          {connection.name}
        </span>
        <span className="block overflow-hidden text-[12.5px] text-ellipsis whitespace-nowrap text-ink-2">
          {failed ? <span className="text-buoy">last test failed</span> : title}
          {!failed && rate > 0 && `, ${count(rate)}/min ${sends ? 'out' : 'in'}`}
        </span>
      </Link>
      {join && (
        <button
          type="button"
          data-joins={connection.id}
          aria-label={`Join ${connection.name} with another system`}
          title="Draw a line to another system, or press and choose one"
          className="absolute -top-5 left-0 cursor-crosshair touch-none text-[12px] font-semibold text-link opacity-0 group-hover:opacity-100 focus:opacity-100"
          onPointerDown={event => {
            event.preventDefault()
            join({ x: at.x - BOX.width / 2 + 20, y: at.y - BOX.height / 2 - 10 })
          }}
          onClick={event => {
            if (event.detail === 0) join(undefined)
          }}
        >
          Join with …
        </button>
      )}
      {children}
    </div>
  )
}
