/** Plays one case: its life at a real source, followed by the engine's own runner into several targets, then compared. */
import { makePlan } from '@tide/core/plan/plan'
import type { Plan } from '@tide/core/plan/plan'
import type { Dataset } from '@tide/core/records/dataset'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import type { Session } from '../packages/connectors/src/contract/session.ts'
import { JournalKeepers } from '../packages/engine/src/journal/keepers.ts'
import type { DifferentialCase } from './case.ts'
import { agreement, isVerified } from './agreement.ts'
import { compare, dropTargets } from './compare.ts'
import { openTarget } from './connectors.ts'
import { filesOf, STATUS, Following, surroundings, type Outcome } from './following.ts'
import { statusAgrees } from './status.ts'
import { historyAgrees } from './history.ts'
import type { Told } from './life.ts'
import { isInFiles, type TargetName } from './render.ts'
import { madeBefore } from './before.ts'
import { chance } from './chance.ts'
import { isAddedTo, shapingOf } from './shaping.ts'
import { buildScript, type BuiltTable, type Script } from './script.ts'
import { singleRowsAgree } from './single-rows.ts'
import { Source } from './source.ts'
import type { SourceName, Systems } from './systems.ts'

export interface Played {
  outcomes: Outcome[]
  told: Told
}

let cases = 0

export async function play(
  one: DifferentialCase,
  systems: Systems,
  sourceName: SourceName,
  targets: readonly TargetName[],
): Promise<Played> {
  const name = `d${process.pid}x${++cases}`
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-differential-'))
  const source = await Source.open(systems, sourceName, name)
  const told: Told = { script: [], done: 0, refused: new Map() }
  const open = (id: string): Promise<Session> =>
    id === name ? source.session() : openTarget(systems, id as TargetName, folder)
  const connections = { open, describe: async () => undefined }
  const journals = new JournalKeepers(
    join(folder, 'journal'),
    connections,
    { list: async () => [] },
    surroundings,
  )
  const following: Following[] = []
  try {
    const script = buildScript(one, source.dialect)
    const tables = await setUp(source, script, told)
    const catalogue = await withSession(open, name, session => session.catalogue())
    const outcomes: Outcome[] = []
    const phase = (n: number) => source.live(script, n, name, told)
    await phase(0)
    const planned = (target: TargetName) =>
      planFor(target, open, source, catalogue.datasets, tables, `${name}_there`, one.shaping)
    for (const target of targets) {
      const first = await planned(target)
      if (first.refusal) outcomes.push({ target, result: 'refused', detail: first.refusal })
      if (first.plan.lanes.length === 0) continue
      let { plan } = first
      if (isAddedTo(one.shaping) && !isInFiles(target)) {
        const { profile } = await withSession(open, target, async session => session.target!)
        const before = madeBefore(plan, profile, chance(one.shaping))
        const copied = new Following(target, name, before, journals, connections, `${name}_${target}_before`)
        copied.begin()
        const filled = await copied.until(() => copied.state === 'Following')
        await copied.halt()
        if (!filled) {
          outcomes.push({ target, ...copied.stopped() })
          continue
        }
        const again = await planned(target)
        if (again.refusal !== first.refusal) {
          outcomes.push({ target, result: 'different', detail: `its own table: ${again.refusal}` })
          continue
        }
        plan = again.plan
      }
      following.push(new Following(target, name, plan, journals, connections))
    }
    const others = async (one: Following, compared: () => Promise<string>) =>
      (await agreement(systems, one, folder, compared)) ||
      (await historyAgrees(systems, one, folder)) ||
      statusAgrees(systems, one, folder)
    for (const one of following) one.begin()
    // What is deleted before the start stays in tables that are added to.
    if (isAddedTo(one.shaping)) await Promise.all(following.map(one => one.until(() => one.captures)))
    const during = phase(1)
    if (one.cutOff) {
      await sleep(100)
      await Promise.all(following.map(one => one.cutOff()))
    }
    await during
    await Promise.all(following.map(one => one.until(() => one.state === 'Following')))
    await phase(2)
    if (one.cutOff) {
      const later = phase(3)
      await Promise.all(following.map(one => one.cutOff()))
      await later
    } else await phase(3)
    await source.settle()
    // Times of some sources are told to the second.
    const ended = Date.now()
    for (const one of following) {
      const failure = await one.reach(ended)
      if (failure) {
        outcomes.push({ target: one.target, ...failure })
        continue
      }
      const rows = await one.rowsAgree(open)
      await one.halt()
      const compared = () => compare(systems, source, tables, one, folder)
      const files = isInFiles(one.target)
      const detail =
        rows ||
        (await compared()) ||
        (one.target === 'merged' && (await isVerified(one))) ||
        (!files && (await others(one, compared))) ||
        ''
      outcomes.push({ target: one.target, result: detail ? 'different' : 'same', detail })
    }
    const rowByRow = await withSession(open, name, session => singleRowsAgree(source, session, tables))
    if (rowByRow) outcomes.push({ target: targets[0]!, result: 'different', detail: rowByRow })
    return { outcomes, told }
  } finally {
    await Promise.all(following.map(one => one.halt()))
    await journals.close()
    await source.cleanUp(name).catch(() => {})
    await dropTargets(systems, `${name}_there`).catch(() => {})
    rmSync(folder, { recursive: true, force: true })
  }
}

async function withSession<T>(
  open: (id: string) => Promise<Session>,
  id: string,
  body: (session: Session) => Promise<T>,
): Promise<T> {
  const session = await open(id)
  try {
    return await body(session)
  } finally {
    await session.close()
  }
}

async function setUp(source: Source, { tables, setup }: Script, told: Told): Promise<BuiltTable[]> {
  const made: BuiltTable[] = []
  for (const [i, table] of tables.entries()) {
    const { create, rows } = setup[i]!
    try {
      for (const sql of create) await source.hand.run(sql)
      told.script.push(...create)
      made.push(table)
    } catch (error) {
      const message = `CREATE: ${(error as Error).message.slice(0, 90)}`
      told.refused.set(message, (told.refused.get(message) ?? 0) + 1)
      await source.hand.run(`DROP TABLE IF EXISTS ${source.dialect.ident(table.name)}`)
      continue
    }
    for (const sql of rows) {
      await source.hand.run(sql).then(
        () => {
          told.script.push(sql)
          told.done++
        },
        (error: Error) => {
          const message = error.message.slice(0, 90)
          told.refused.set(message, (told.refused.get(message) ?? 0) + 1)
        },
      )
    }
  }
  return made
}

async function planFor(
  target: TargetName,
  open: (id: string) => Promise<Session>,
  source: Source,
  datasets: readonly Dataset[],
  tables: readonly BuiltTable[],
  targetSchema: string,
  shaping: number,
): Promise<{ plan: Plan; refusal: string }> {
  return withSession(open, target, async session => {
    const there = await session.catalogue()
    const built = new Set(tables.map(({ name }) => name))
    const isText = (table: string, column: string) =>
      tables
        .find(({ name }) => name === table)!
        .columns.some(({ name, spec, generated }) => name === column && !generated && spec.family === 'text')
    const shaped = shapingOf(
      shaping,
      datasets.filter(({ name }) => built.has(name)),
      isText,
      session.target!.profile,
    )
    const make = (chosen: readonly string[]) =>
      makePlan({
        tables: chosen.map(name => ({ namespace: source.namespace, name })),
        targetSchema,
        ...shaped,
        ...(isInFiles(target)
          ? { files: filesOf(target), lanes: shaped.lanes?.filter(({ does }) => !('history' in does)) }
          : { status: STATUS }),
        ...(target === 'folder' ? { deletes: 'remove' as const } : {}),
        there: { rows: 'add', structure: 'add what is missing' },
        origins: [{ tag: '', sameKind: target === source.kind, source: datasets }],
        target: there.datasets,
        targetSchemas: there.schemas,
        profile: session.target!.profile,
        claims: [],
        own: [],
      })
    const all = make(tables.map(({ name }) => name))
    const refusals = all.notes.filter(({ level }) => level === 'refused')
    const refused = new Set(refusals.flatMap(({ tables = [] }) => tables.map(({ name }) => name)))
    return {
      plan: make(tables.map(({ name }) => name).filter(name => !refused.has(name))),
      refusal: refusals.map(({ message }) => message).join(' '),
    }
  })
}
