/**
 * Random transactions at a real source, or at several that go into the same tables, followed into several targets, while at random moments the engine is killed,
 * servers restart, connections are cut, the journal's disk fills, lanes are copied again, pipelines are rewound, values do not fit, rows are taken away at targets, verifications are asked for,
 * and one lane is added. In the end a verification finds what was taken away and repairs it, both
 * sides are compared row by row, and the journal's transactions with those that the source's own ledger knows.
 */
import type { JournalInfo } from '@tide/core/api/journals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { spawnSync } from 'node:child_process'
import { existsSync, mkdirSync, mkdtempSync, rmSync, statfsSync, truncateSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { eventually, startServer, type ServerProcess } from '../e2e/server.ts'
import { putRight, saidToDiffer } from './agreement.ts'
import { compare, type Difference, type Rows } from './compare.ts'
import { historyDifference, LEDGER_HISTORY } from './history.ts'
import { Random } from './random.ts'
import type { SoakSource, SoakTarget } from './systems.ts'
import { SHAPING, firstRows, TABLES, work, WRITERS, type Writer } from './world.ts'

/** The writers leave a backlog that grows with the length of the run. */
const CATCH_UP_S_FOR_EACH_FAULT = 6
const DISK_MIB = 1024
const CATCH_UP_S = 180
/** The table that is added on the way. */
const ADDED = 'scratch'

export interface SoakResult extends Omit<Difference, 'examples'> {
  faults: number
  /** Changes that are not in a history as they should be. */
  historyDifferent: number
  transactions: number
  /** How often each kind of fault was done. */
  kinds: Record<string, number>
}

/** `say` is told of every fault, with the second at which it came. */
export async function soak(
  sources: SoakSource[],
  targets: SoakTarget[],
  { faults, seed, say = () => {} }: { faults: number; seed: number; say?: (line: string) => void },
): Promise<SoakResult> {
  const random = new Random(seed)
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-soak-'))
  const journal = join(folder, 'journal')
  mkdirSync(journal)
  mount(journal)
  let server: ServerProcess = await startServer(folder)
  const url = () => server.url
  try {
    for (const source of sources) await source.setUp(firstRows(random))
    const post = <T>(path: string, body?: unknown) => call<T>(url(), 'POST', path, body)
    const connect = async (name: string, { kind, config }: { kind: string; config: object }) =>
      (await post<{ id: string }>('/connections', { name, kind, config })).id
    const origins: { connection: string; tag: string; source: SoakSource }[] = []
    for (const [n, source] of sources.entries())
      origins.push({ connection: await connect(`source ${n}`, source), tag: `site ${n}`, source })
    const from =
      origins.length === 1
        ? origins[0]!.connection
        : origins.map(({ connection, tag }) => ({ connection, tag }))
    const tables = TABLES.map(({ name }) => ({ namespace: sources[0]!.schemaName, name }))
    const lanes = TABLES.length * sources.length
    const pipelines: string[] = []
    let going = true
    const working = Promise.all(
      sources.map((source, n) =>
        work(
          seed + n * 1000,
          () => source.writer(),
          () => going,
        ),
      ),
    )
    for (const target of targets) {
      const { id } = await post<PipelineStatus>('/pipelines', {
        version: 2,
        shape: 'replicate',
        name: target.name,
        from,
        to: await connect(target.name, target),
        targetSchema: 'soaked',
        ...SHAPING,
        status: 'tide',
        // Nobody is there to be asked.
        guard: { percent: 100 },
        ...target.settings,
        tables: tables.filter(({ name }) => name !== ADDED),
      })
      await post(`/pipelines/${id}/start`)
      pipelines.push(id)
    }
    const ledger = TABLES.find(({ name }) => name === 'ledger')!
    const journals: { start: string; seen: number }[] = []
    for (const { connection, source } of origins) {
      await eventually(
        async () => (await call<unknown>(url(), 'GET', `/connections/${connection}/journal`)) !== null,
        60,
        'the journal',
      )
      const start = await journalStart(url(), connection)
      // What cannot be seen yet is committed after the journal has begun, so all of it must be there.
      journals.push({
        start,
        seen: Math.max(0, ...(await source.rows(ledger)).map(([id]) => Number(id))),
      })
    }
    const kinds: Record<string, number> = {}
    const began = Date.now()
    const restarts = targets.filter(target => target.restart)
    const deeds: [string, number, () => Promise<void>][] = [
      [
        'engine killed',
        6,
        async () => {
          await server.kill()
          server = await startServer(folder)
        },
      ],
      ['source restarted', 2, () => random.pick(sources).restart(random.chance(0.5) ? 'SIGINT' : 'SIGQUIT')],
      ['source connections cut', 3, () => random.pick(sources).cut()],
      ...(restarts.length > 0
        ? ([
            [
              'target restarted',
              2,
              () => random.pick(restarts).restart!(random.chance(0.5) ? 'SIGINT' : 'SIGQUIT'),
            ],
            ['target connections cut', 2, () => random.pick(restarts).cut!()],
          ] as [string, number, () => Promise<void>][])
        : []),
      ['disk full', 1, () => fillDisk(journal, 500 + random.below(3000))],
      [
        'lane copied again',
        4,
        async () => {
          const id = random.pick(pipelines)
          const number = random.below(lanes)
          // It may be copying or retrying just now, and then refuses.
          const status = await call<PipelineStatus>(url(), 'GET', `/pipelines/${id}`).catch(() => undefined)
          // Of what is copied again, the changes up to then are not in its history.
          if (!status || status.lanes[number]?.source.name === 'ledger') return
          await post(`/pipelines/${id}/recopy`, { lanes: [number] }).catch(() => {})
        },
      ],
    ]
    deeds.push([
      'lane stood still or went on',
      4,
      async () => {
        const id = random.pick(pipelines)
        const asked = random.chance(0.5)
          ? (['pause-lanes', [random.below(lanes)]] as const)
          : (['continue-lanes', []] as const)
        await post(`/pipelines/${id}/${asked[0]}`, { lanes: asked[1] }).catch(() => {})
      },
    ])
    const odd = sources.filter(source => source.odd)
    if (odd.length > 0) {
      deeds.push([
        'values held',
        3,
        async () => {
          const source = random.pick(odd)
          await once(source, source.odd!.make(random.below(10_000)))
        },
      ])
    }
    deeds.push([
      'rewound',
      4,
      async () => {
        const time = new Date(Date.now() - 1_000 - random.below(20_000)).toISOString()
        // It may be copying or retrying just now, or the journal begins later; then it is refused.
        await post(`/pipelines/${random.pick(pipelines)}/rewind`, { time }).catch(() => {})
      },
    ])
    deeds.push([
      'verified',
      4,
      async () => {
        const level = random.chance(0.7) ? 'rows' : 'counts'
        // It may be copying or retrying just now.
        await post(`/pipelines/${random.pick(pipelines)}/verifications`, { level }).catch(() => {})
      },
    ])
    const touched = new Set<string>()
    const open = targets.flatMap(({ takeAway }, n) => (takeAway ? [{ takeAway, id: pipelines[n]! }] : []))
    if (open.length > 0) {
      deeds.push([
        'rows taken away',
        3,
        async () => {
          const { takeAway, id } = random.pick(open)
          touched.add(id)
          // It may be away just now, or the table not there yet.
          await takeAway('soaked', random.pick(TABLES).name).catch(() => {})
        },
      ])
    }
    // On the way one more table is added to each pipeline, whatever happens just then.
    const addAt = random.below(Math.ceil(faults / 2))
    let adding: Promise<unknown> = Promise.resolve()
    const added = async (id: string) => {
      const status = await call<PipelineStatus>(url(), 'GET', `/pipelines/${id}`)
      if (status.lanes.length === lanes) return true
      const definition = { ...status.definition, tables }
      await post(`/pipelines/${id}/change`, { definition })
      return false
    }
    for (let fault = 0; fault < faults; fault++) {
      if (fault === addAt)
        adding = Promise.all(
          pipelines.map(id => eventually(() => added(id), CATCH_UP_S + faults, 'adding a table')),
        )
      adding.catch(() => {}) // heard of when it is waited for
      await sleep(fault < 5 ? random.below(700) : random.below(2500))
      let weight = random.below(deeds.reduce((sum, [, share]) => sum + share, 0))
      const [name, , deed] = deeds.find(([, share]) => (weight -= share) < 0)!
      say(`${((Date.now() - began) / 1000).toFixed(1)} s: ${name}`)
      kinds[name] = (kinds[name] ?? 0) + 1
      await deed()
    }
    going = false
    const transactions = (await working).reduce((sum, made) => sum + made)
    await adding.catch(async error => {
      say(await standing(url(), pipelines))
      throw error
    })
    for (const source of odd)
      await eventually(async () => await once(source, source.odd!.mend), CATCH_UP_S, 'mending')
    say('writers stopped; catching up')
    const ended = new Date(Date.now()).toISOString()
    for (const id of pipelines) {
      const end = await eventually(
        async () => {
          const status = await call<PipelineStatus>(url(), 'GET', `/pipelines/${id}`)
          if (status.lanes.some(({ paused }) => paused))
            await post(`/pipelines/${id}/continue-lanes`, { lanes: [] })
          const complete = status.consistent && (status.completeUpTo ?? '') > ended
          return (status.state === 'Stopped' || (status.state === 'Following' && complete)) && status
        },
        CATCH_UP_S + faults * CATCH_UP_S_FOR_EACH_FAULT,
        'catching up',
      ).catch(async error => {
        say(await standing(url(), pipelines))
        throw error
      })
      if (end.state === 'Stopped') say(await standing(url(), pipelines))
      if (end.state === 'Stopped') throw new Error(`${end.definition.name} stopped: ${end.reason?.message}`)
    }
    let disagreeing = 0
    for (const id of pipelines) {
      disagreeing += await putRight(url(), id, say)
      if (touched.has(id)) continue
      const wrong = await saidToDiffer(url(), id)
      for (const one of wrong) say(`a verification was wrong: ${JSON.stringify(one)}`)
      disagreeing += wrong.length
    }
    const copiedOf = new Map<string, number>()
    for (const id of pipelines) {
      const { lanes } = await call<PipelineStatus>(url(), 'GET', `/pipelines/${id}`)
      for (const lane of lanes)
        if (lane.source.name === 'ledger') copiedOf.set(`${id} ${lane.origin ?? ''}`, lane.copiedRows)
    }
    const told: { ids: string[]; trimmed: boolean }[] = []
    for (const [n, { connection }] of origins.entries()) {
      const ids = await journalLedger(url(), connection)
      told.push({ ids, trimmed: (await journalStart(url(), connection)) !== journals[n]!.start })
    }
    await server.stop()
    const total = { lost: 0, doubled: 0, different: disagreeing }
    let historyDifferent = 0
    const add = (what: string, difference: Omit<Difference, 'examples'>) => {
      if (difference.lost + difference.doubled + difference.different > 0)
        say(`${what}: ${JSON.stringify(difference)}`)
      for (const key of ['lost', 'doubled', 'different'] as const) total[key] += difference[key]
    }
    for (const [n, { tag, source }] of origins.entries()) {
      const origin = origins.length > 1 ? tag : undefined
      for (const table of TABLES) {
        const rows = (await source.rows(table)).filter(table.takesPart ?? (() => true))
        for (const target of targets)
          add(
            `${target.name} ${table.name} of ${tag}`,
            compare(rows, await target.rows('soaked', table, origin), table),
          )
        if (table.name === 'ledger') {
          for (const [i, target] of targets.entries()) {
            if (target.settings?.history === false) continue
            const history = await target.rows('soaked', LEDGER_HISTORY, origin)
            const different = historyDifference(
              rows,
              history,
              copiedOf.get(`${pipelines[i]} ${origin ?? ''}`) ?? 0,
            )
            if (different > 0) say(`${target.name} history of ${tag}: ${different}`)
            historyDifferent += different
          }
          add(`journal of ${tag}`, journalDifference(rows, told[n]!, journals[n]!.seen, say))
        }
      }
    }
    return { faults, transactions, kinds, historyDifferent, ...total }
  } finally {
    await server.kill()
    spawnSync('umount', ['-l', journal])
    rmSync(folder, { recursive: true, force: true })
  }
}

/** Whether it went through: the source may be away just now. */
async function once(source: SoakSource, statement: string): Promise<boolean> {
  let writer: Writer | undefined
  try {
    writer = await source.writer()
    await writer.run([statement])
    return true
  } catch {
    return false
  } finally {
    await writer?.close().catch(() => {})
  }
}

/** The first rows of the ledger are in the copy; all later ones are in the journal, each once. */
function journalDifference(
  rows: Rows,
  { ids: told, trimmed }: { ids: string[]; trimmed: boolean },
  seen: number,
  say: (line: string) => void,
): Omit<Difference, 'examples'> {
  const ids = new Set(told)
  // On a full disk it lets go of what nobody needs. Of so many transactions behind that place, some writer made two,
  // and the second has a later id than any before the place.
  const since = trimmed ? Math.max(...told.slice(0, WRITERS + 1).map(Number)) : seen
  if (trimmed) say(`the journal's disk was full for long: it is compared from ${since} on`)
  const wanted = rows.filter(([id]) => Number(id) > since)
  const committed = new Set(rows.map(([id]) => id!))
  return {
    lost: wanted.filter(([id]) => !ids.has(id!)).length,
    doubled: told.length - ids.size,
    different: told.filter(id => Number(id) > seen && !committed.has(id)).length,
  }
}

/** How the pipelines stand, and what was logged last: for whoever looks into a soak that failed. */
async function standing(url: string, pipelines: readonly string[]): Promise<string> {
  const lines: string[] = []
  for (const id of pipelines) {
    const { definition, state, retry, lagSeconds, backlog, landed, lanes } = await call<PipelineStatus>(
      url,
      'GET',
      `/pipelines/${id}`,
    )
    const copying = lanes.filter(({ copied }) => !copied).map(({ source }) => source.name)
    lines.push(JSON.stringify({ name: definition.name, state, retry, lagSeconds, backlog, landed, copying }))
    const log = await call<{ at: string; message: string }[]>(url, 'GET', `/log?pipeline=${id}`)
    lines.push(...log.slice(0, 6).map(({ at, message }) => `  ${at} ${message}`))
  }
  return lines.join('\n')
}

async function journalStart(url: string, connection: string): Promise<string> {
  return (await call<JournalInfo>(url, 'GET', `/connections/${connection}/journal`)).start.position
}

/** The ledger's ids in the journal, in its order. */
async function journalLedger(url: string, connection: string): Promise<string[]> {
  const response = await fetch(`${url}/api/connections/${connection}/journal/changes`)
  const ids: string[] = []
  let rest = ''
  for await (const part of response.body!.pipeThrough(new TextDecoderStream())) {
    const lines = (rest + part).split('\n')
    rest = lines.pop()!
    for (const line of lines) {
      if (!line.includes('ledger')) continue
      const { table, op, after } = JSON.parse(line) as { table: string; op: string; after: { id: string } }
      if (op === 'insert' && table.endsWith('.ledger')) ids.push(after.id)
    }
  }
  return ids
}

/** A disk of its own, so that it can be full without harm to others. */
function mount(folder: string): void {
  const done = spawnSync('mount', ['-t', 'tmpfs', '-o', `size=${DISK_MIB}m`, 'tmpfs', folder])
  if (done.status !== 0)
    throw new Error('A small disk cannot be mounted for the journal; run it as root, on Linux.')
}

async function fillDisk(folder: string, milliseconds: number): Promise<void> {
  const filler = join(folder, 'filler')
  const { bavail, bsize } = statfsSync(folder)
  spawnSync('fallocate', ['-l', String(bavail * bsize), filler])
  if (!existsSync(filler)) writeFileSync(filler, '')
  await sleep(milliseconds)
  truncateSync(filler, 0)
  rmSync(filler)
}
