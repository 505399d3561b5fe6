/** What `tide` does. Each command returns its exit code: 0 as it should be, 1 refused, 2 differs from what it should be. */
import type { Errand } from '@tide/core/definition/errand'
import { printLogLine } from '@tide/core/api/log'
import type { FileAnswer } from '@tide/core/api/files'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { RewindForesight } from '@tide/core/api/rewind'
import type { RunAnswer } from '@tide/core/api/runs'
import type { VerificationAnswer } from '@tide/core/api/verification'
import { NO_PLAN, type PlanAnswer } from '@tide/core/api/plans'
import { isChangeable, type Definition } from '@tide/core/definition/definition'
import type { LogLine, LogQuery } from '@tide/core/definition/log'
import { runSeconds } from '@tide/core/definition/run'
import { agrees, differing } from '@tide/core/definition/verification'
import { Failure } from '@tide/core/failure'
import { placeAsked } from '@tide/core/position/find'
import { planMarkdown } from '@tide/core/plan/markdown'
import { fatesSaid } from '@tide/core/plan/change'
import { hinders } from '@tide/core/plan/note'
import { printName } from '@tide/core/records/dataset'
import { readFile } from 'node:fs/promises'
import { takeInQueries } from './queries.ts'
import { withVariables } from './variables.ts'
import type { Server } from './server.ts'

export interface Asked {
  server: Server
  /** The file or the pipeline that the command is about. */
  about: string
  json: boolean
  /** Rows may go. */
  losses: boolean
  /** Where to. */
  to: string
  /** Why changes are left out. */
  reason: string
  /** What is looked for in the log. */
  log: LogQuery
  /** A table of the source, as it is printed. */
  lane: string | undefined
  /** Goes on with what comes. */
  follow: boolean
  say(text: string): void
}

export interface Command {
  /** What stands behind it on the line. */
  takes: 'FILE' | 'FOLDER' | 'NAME' | '[NAME]'
  does: string
  run(asked: Asked): Promise<number>
}

const REFUSED = 1
const DIFFERS = 2
const LOOK_MS = 500

export const COMMANDS: Record<string, Command> = {
  check: {
    takes: 'FILE',
    does: 'reads a file, plans it, and says whether it could be started and whether it is what runs',
    run: async asked => {
      const { file, plan } = await planned(asked)
      const refusals = plan.notes.filter(hinders)
      for (const { message, remedy } of refusals) asked.say(`${message} ${remedy}`)
      if (refusals.length > 0) return REFUSED
      if (file.differs) {
        asked.say(`“${file.definition.name}” there does something else than this file says.`)
        return DIFFERS
      }
      asked.say(
        file.pipeline ? 'It is what the file says.' : 'It could be started; there is none of its name yet.',
      )
      return 0
    },
  },
  foresee: {
    takes: 'FILE',
    does: 'prints the plan of a file: as Markdown, or with --json as JSON',
    run: async asked => {
      const { file, plan } = await planned(asked)
      asked.say(asked.json ? JSON.stringify(plan, null, 2) : planMarkdown(file.definition.name, plan))
      return plan.notes.some(hinders) ? REFUSED : 0
    },
  },
  put: {
    takes: 'FILE',
    does: 'makes a pipeline of a file, or changes the one of its name, also while it runs',
    run: async asked => {
      const { server, say } = asked
      const { definition, pipeline, differs } = await read(asked)
      const status = pipeline && (await server.call<PipelineStatus>('GET', `/pipelines/${pipeline}`))
      if (status && differs && !isChangeable(status.state)) return change(asked, status, definition)
      if (!pipeline) await server.call('POST', '/pipelines', definition)
      else if (differs) await server.call('PUT', `/pipelines/${pipeline}`, definition)
      say(`“${definition.name}” ${!pipeline ? 'is made' : differs ? 'is changed' : 'is so already'}.`)
      return 0
    },
  },
  export: {
    takes: 'NAME',
    does: 'prints a pipeline as a file',
    run: async asked => {
      const { id } = await named(asked)
      asked.say((await asked.server.text('GET', `/pipelines/${id}/file`)).trimEnd())
      return 0
    },
  },
  start: {
    takes: 'NAME',
    does: 'starts a pipeline, if nothing is left to settle and, but for --losses, no rows would go',
    run: async asked => {
      const { id, definition, state } = await named(asked)
      if (!isChangeable(state)) {
        asked.say(`“${definition.name}” is ${state.toLowerCase()} already.`)
        return 0
      }
      if (definition.shape === 'send') {
        await asked.server.call('POST', `/pipelines/${id}/start`)
        asked.say(`“${definition.name}” is started, and waits for runs.`)
        return 0
      }
      const plan = await asked.server.call<PlanAnswer>('POST', '/plan', {
        pipeline: id,
        definition,
        fresh: true,
      })
      if (isStopped(asked, plan)) return REFUSED
      await asked.server.call('POST', `/pipelines/${id}/start`, { plan: plan.digest })
      asked.say(`“${definition.name}” is started: ${plan.lanes.length} tables.`)
      return 0
    },
  },
  pause: deed('pause', 'lets a pipeline stand still, or with --lane one table of it'),
  continue: deed('continue', 'lets a pipeline go on, or with --lane one table of it'),
  send: {
    takes: 'NAME',
    does: 'sends what differs into the app, and waits until that is over',
    run: async asked => {
      const { server, say } = asked
      const { id } = await named(asked)
      const { errand } = await server.call<{ errand: string }>('POST', `/pipelines/${id}/send`, {
        deed: 'run',
      })
      for (;;) {
        const errands = await server.call<Errand[]>('GET', `/pipelines/${id}/errands`)
        const over = errands.find(one => one.id === errand && one.endedAt !== null)
        if (over) {
          say(over.outcome ?? '')
          return over.state === 'done' ? 0 : REFUSED
        }
        const { state, reason } = await server.call<PipelineStatus>('GET', `/pipelines/${id}`)
        if (state === 'Stopped') {
          say(reason ? `${reason.message} ${reason.remedy}` : 'It was stopped.')
          return REFUSED
        }
        await new Promise(resolve => setTimeout(resolve, LOOK_MS))
      }
    },
  },
  queries: {
    takes: 'FOLDER',
    does: 'takes in the .sql files of a folder as saved queries, each under its file’s name',
    run: async ({ server, about, say }) => {
      say((await takeInQueries(server, about)).join('\n') || 'There is no .sql file in it.')
      return 0
    },
  },
  land: deed('land-now', 'lands what has come, and waits for no more'),
  stop: deed('stop', 'stops a pipeline and takes its capture off the source'),
  rewind: {
    takes: 'NAME',
    does: 'lets a pipeline go on from --to TIME or POSITION; forward, over what lies between, with --reason',
    run: async asked => {
      const { server, to, reason, say } = asked
      const { id, definition } = await named(asked)
      if (to.trim() === '') {
        say('Say where to: --to 2026-03-01T12:00:00Z, or --to a position as the source prints it.')
        return REFUSED
      }
      const place = placeAsked(to)
      const foreseen = await server.call<RewindForesight[]>(
        'GET',
        `/pipelines/${id}/rewind?${new URLSearchParams({ ...place })}`,
      )
      for (const one of foreseen) say(rewindLine(one))
      if (foreseen.every(({ way }) => way === 'nowhere')) return 0
      await server.call('POST', `/pipelines/${id}/rewind`, {
        ...place,
        ...(reason === '' ? {} : { reason }),
      })
      say(`“${definition.name}” is told to rewind.`)
      return 0
    },
  },
  verify: {
    takes: 'NAME',
    does: 'holds the target against the source, and says of each lane what was found',
    run: async asked => {
      const { server, say, json } = asked
      const { id } = await named(asked)
      const begun = await server.call<{ id: string }>('POST', `/pipelines/${id}/verifications`, {})
      for (;;) {
        const all = await server.call<VerificationAnswer[]>('GET', `/pipelines/${id}/verifications`)
        const { lanes } = all.find(one => one.id === begun.id)!
        if (lanes.every(({ verified }) => verified.endedAt !== null)) {
          say(json ? JSON.stringify(lanes, null, 2) : lanes.map(verifiedLine).join('\n'))
          return lanes.every(({ verified }) => agrees(verified) === true) ? 0 : DIFFERS
        }
        await new Promise(resolve => setTimeout(resolve, LOOK_MS))
      }
    },
  },
  runs: {
    takes: 'NAME',
    does: 'lists what a pipeline did, the newest first, with what that moved and how fast',
    run: async asked => {
      const { id } = await named(asked)
      const runs = await asked.server.call<RunAnswer[]>('GET', `/runs?pipeline=${id}`)
      asked.say(
        asked.json
          ? JSON.stringify(runs, null, 2)
          : runs.length > 0
            ? runs.map(runLine).join('\n')
            : 'Nothing was done yet.',
      )
      return 0
    },
  },
  log: {
    takes: '[NAME]',
    does: 'prints the log, the oldest first; narrowed by --text, --level, --lane, --since, --until; --follow waits for more',
    run: async asked => {
      const { server, json, follow, say } = asked
      const { id } = asked.about === '' ? {} : await named(asked)
      const query = { ...asked.log, ...(id ? { pipeline: id } : {}), form: json ? 'json' : 'text' }
      say((await server.text('GET', `/log/file?${new URLSearchParams(query)}`)).trimEnd())
      if (follow) await followLog(asked, id)
      return 0
    },
  },
  status: {
    takes: '[NAME]',
    does: 'says how a pipeline stands, or all of them; 1 where one has stopped for a reason',
    run: async asked => {
      const all = await asked.server.call<PipelineStatus[]>('GET', '/pipelines')
      const shown = asked.about === '' ? all : [await named(asked)]
      asked.say(asked.json ? JSON.stringify(shown, null, 2) : shown.map(statusLine).join('\n'))
      return shown.some(({ state, reason }) => state === 'Stopped' && reason?.kind !== 'person') ? REFUSED : 0
    },
  },
}

/** Prints lines as they come, for as long as nobody ends it. */
async function followLog({ server, log, json, say }: Asked, pipeline: string | undefined): Promise<never> {
  const params = new URLSearchParams({ ...log, ...(pipeline ? { pipeline } : {}) })
  const newest = () => server.call<LogLine[]>('GET', `/log?${params}`)
  for (let seen = (await newest())[0]?.id ?? 0; ;) {
    await new Promise(resolve => setTimeout(resolve, LOOK_MS))
    const lines = (await newest()).filter(({ id }) => id > seen).reverse()
    if (lines.length === 0) continue
    const all = await server.call<PipelineStatus[]>('GET', '/pipelines')
    const nameOf = (id: string | null) => all.find(one => one.id === id)?.definition.name ?? id
    say(
      lines
        .map(line => printLogLine(line, nameOf(line.pipeline), json ? 'json' : 'text'))
        .join('')
        .trimEnd(),
    )
    seen = lines.at(-1)!.id
  }
}

/** A pipeline that runs: as much of it as can goes on. */
async function change(asked: Asked, { id }: PipelineStatus, definition: Definition): Promise<number> {
  const plan = await asked.server.call<PlanAnswer>('POST', '/plan', { pipeline: id, definition, fresh: true })
  if (isStopped(asked, plan)) return REFUSED
  await asked.server.call('POST', `/pipelines/${id}/change`, { definition, plan: plan.digest })
  asked.say(`“${definition.name}” is changed while it runs: ${fatesSaid(plan.change!).join(', ')}.`)
  return 0
}

/** Says what stands in the way. Nobody is asked here whether rows may go. */
function isStopped({ losses, say }: Asked, { notes }: PlanAnswer): boolean {
  const stops = notes.filter(note => hinders(note) || (note.level === 'loss' && !losses))
  for (const { message, remedy } of stops) say(`${message} ${remedy}`)
  if (stops.some(({ level }) => level === 'loss')) say('With --losses that is done all the same.')
  return stops.length > 0
}

function deed(action: 'pause' | 'continue' | 'stop' | 'land-now', does: string): Command {
  return {
    takes: 'NAME',
    does,
    run: async asked => {
      const { server, lane, say } = asked
      const status = await named(asked)
      if (lane !== undefined && (action === 'pause' || action === 'continue'))
        return deedOfLane(asked, status, action, lane)
      const { id, definition } = status
      const { state } = await server.call<PipelineStatus>('POST', `/pipelines/${id}/${action}`)
      say(`“${definition.name}” was ${state.toLowerCase()} when it was told to ${action}.`)
      return 0
    },
  }
}

/** Of all origins that have a table of this name. */
async function deedOfLane(
  { server, say }: Asked,
  { id, definition, lanes }: PipelineStatus,
  action: 'pause' | 'continue',
  table: string,
): Promise<number> {
  const found = lanes.flatMap(({ source }, i) => (printName(source) === table ? [i] : []))
  if (found.length === 0) {
    const there = lanes.map(({ source }) => printName(source)).join(', ')
    say(`“${definition.name}” has no table ${table}. It has ${there || 'none yet'}.`)
    return REFUSED
  }
  await server.call('POST', `/pipelines/${id}/${action}-lanes`, { lanes: found })
  say(`${table} of “${definition.name}” is told to ${action}.`)
  return 0
}

function statusLine({ definition, state, lagSeconds, reason, lanes }: PipelineStatus): string {
  const lag =
    state !== 'Following' ? '' : lagSeconds === null ? ', lag unknown' : `, ${lagSeconds.toFixed(1)} s behind`
  const why = reason ? `: ${reason.message} ${reason.remedy}` : ''
  const standing = lanes.filter(({ paused }) => paused).length
  const but = standing === 0 ? '' : `, ${standing} of them standing still`
  return `${definition.name}: ${state}${lag}, ${lanes.length} tables${but}${why}`
}

function verifiedLine({ source, origin, verified }: VerificationAnswer['lanes'][number]): string {
  const { state, level, atSource, atTarget, equal, held, inMotion, problem } = verified
  const name = `${printName(source)}${origin === null ? '' : ` of ${origin}`}`
  if (state !== 'done') return `${name}: ${problem ? `${problem.message} ${problem.remedy}` : state}`
  if (level === 'counts')
    return `${name}: ${atSource ?? 'unknown'} rows at the source, ${atTarget} at the target`
  const more = [...(held > 0 ? [`${held} held`] : []), ...(inMotion > 0 ? [`${inMotion} in motion`] : [])]
  return [`${name}: ${equal} rows equal`, `${differing(verified)} differ`, ...more].join(', ')
}

function rewindLine({
  origin,
  way,
  present,
  position,
  transactions,
  counted,
  lanes,
}: RewindForesight): string {
  const whose = origin === '' ? '' : `${origin}: `
  if (way === 'nowhere') return `${whose}It stands at ${present} already.`
  const changes = lanes.reduce((sum, lane) => sum + lane.changes, 0)
  const what = `${counted ? '' : 'more than '}${changes} changes of ${transactions} transactions`
  return way === 'back'
    ? `${whose}${what} are applied again, from ${position} on.`
    : `${whose}${what} are left out, from ${present} to ${position}.`
}

function runLine({ startedAt, endedAt, kind, state, rows, bytes, origin, note }: RunAnswer): string {
  const what = `${startedAt}${origin === '' ? '' : ` ${origin}`} ${kind} ${state}`
  const seconds = runSeconds({ startedAt, endedAt }, Date.now())
  const rate = seconds > 0 ? `, ${Math.round(rows / seconds)} rows/s` : ''
  const more = note === null ? '' : ` ${note}`
  return `${what}: ${rows} rows, ${bytes} bytes in ${seconds.toFixed(1)} s${rate}.${more}`
}

async function named({ server, about }: Asked): Promise<PipelineStatus> {
  const all = await server.call<PipelineStatus[]>('GET', '/pipelines')
  const found = all.filter(({ definition }) => definition.name === about)
  if (found.length === 1) return found[0]!
  throw new Failure(
    'refused',
    found.length === 0
      ? `There is no pipeline “${about}”.`
      : `${found.length} pipelines are called “${about}”.`,
    'See `tide status` for those that there are.',
  )
}

async function read({ server, about }: Asked): Promise<FileAnswer> {
  let text: string
  try {
    text = await readFile(about, 'utf8')
  } catch (cause) {
    throw new Failure(
      'refused',
      `${about} cannot be read: ${(cause as Error).message}.`,
      'Name a file that is there.',
      cause,
    )
  }
  return server.call<FileAnswer>('POST', '/files/read', { text: withVariables(text, process.env) })
}

async function planned(asked: Asked): Promise<{ file: FileAnswer; plan: PlanAnswer }> {
  const file = await read(asked)
  const { definition, pipeline } = file
  const status = pipeline && (await asked.server.call<PipelineStatus>('GET', `/pipelines/${pipeline}`))
  if (status && !isChangeable(status.state) && !file.differs) return { file, plan: NO_PLAN }
  return {
    file,
    plan: await asked.server.call('POST', '/plan', {
      pipeline: pipeline ?? undefined,
      definition,
      fresh: true,
    }),
  }
}
