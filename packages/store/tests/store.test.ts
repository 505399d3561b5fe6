import { beginRun } from '@tide/core/definition/run'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Definition } from '@tide/core/definition/definition'
import { createCipheriv, createHash } from 'node:crypto'
import { mkdtempSync, readFileSync, rmSync, statSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Seal } from '../src/seal.ts'
import { openStore, type Store } from '../src/store.ts'

const definition: Definition = {
  version: 2,
  shape: 'replicate',
  name: 'Beds',
  from: 'a',
  to: 'b',
  targetSchema: 's',
  tables: [],
}
const folder = mkdtempSync(join(tmpdir(), 'constant-tide-store-test-'))

describe('store', () => {
  let store: Store
  beforeAll(async () => {
    store = await openStore({ folder })
  })
  afterAll(async () => {
    await store?.close()
    rmSync(folder, { recursive: true, force: true })
  })

  test('secrets are kept sealed, named but never shown, and stay when they are not given', async () => {
    const { connections } = store
    await connections.save(
      { id: 'c', name: 'Site', kind: 'postgres', config: { host: 'h' } },
      { password: 'rushes' },
    )
    await connections.save({ id: 'c', name: 'Site 2', kind: 'postgres', config: { host: 'h2' } }, {})
    expect(await connections.get('c')).toEqual({
      id: 'c',
      name: 'Site 2',
      kind: 'postgres',
      config: { host: 'h2' },
      lastCheck: null,
      secretsSet: ['password'],
    })
    expect(await connections.openable('c')).toMatchObject({ config: { host: 'h2', password: 'rushes' } })
    await connections.save({ id: 'c', name: 'Site 2', kind: 'postgres', config: {} }, { password: 'sedge' })
    expect((await connections.openable('c'))!.config).toEqual({ password: 'sedge' })
  })

  test('what is started is the plan of the very definition, and a definition stays while it runs', async () => {
    const { pipelines } = store
    await pipelines.create('race', definition)
    const other = { ...definition, targetSchema: 'elsewhere' }
    const start = (of: typeof definition) =>
      pipelines.start('race', { definition: of, lanes: [], steps: [] }, '2026-11-20T10:00:00Z', null)
    // Changed between the plan and the start, by whichever process.
    expect(await pipelines.setDefinition('race', other)).toBe(true)
    expect(await start(definition)).toBe(false)
    expect(await pipelines.get('race')).toMatchObject({ state: 'Draft', definition: other })
    expect(await start(other)).toBe(true)
    expect([await start(other), await pipelines.setDefinition('race', definition)]).toEqual([false, false])
    expect(await pipelines.get('race')).toMatchObject({ state: 'Copying', definition: other })
    await pipelines.remove('race')
  })

  test('a start makes older checkpoints old; every taking raises the epoch, for the holder alone', async () => {
    const { pipelines, leases } = store
    await pipelines.create('p', definition)
    expect(await pipelines.takeEpoch('p', 'one')).toBeUndefined()
    expect(await leases.take('p', 'one')).toBe(true)
    expect(await pipelines.takeEpoch('p', 'one')).toBe(1)
    await pipelines.start('p', { definition, lanes: [], steps: [] }, '2026-11-20T10:00:00Z', null)
    expect(await pipelines.takeEpoch('p', 'one')).toBe(2)
    expect(await pipelines.setState('p', 'other', 'Stopped', null)).toBe(false)
    expect(await pipelines.get('p')).toMatchObject({
      epoch: 2,
      freshFrom: 2,
      state: 'Copying',
      wanted: 'run',
      holder: 'one',
      definition,
    })
  })

  test('a lease keeps others out until it is given back, or its data folder has another process', async () => {
    const { leases } = store
    await leases.begin({ id: 'one', name: 'One', home: 'h1' })
    expect(await leases.take('p', 'two')).toBe(false)
    expect(await leases.work()).toMatchObject([{ id: 'p', holder: 'one', free: false, hasReason: false }])
    await leases.begin({ id: 'one again', name: 'One', home: 'h1' })
    expect(await leases.take('p', 'two')).toBe(true)
    await leases.release(['p'], 'one again') // not its own
    expect(await leases.take('p', 'three')).toBe(false)
    await leases.beat({ id: 'two', name: 'Two', home: 'h2' })
    expect((await leases.engines()).map(({ id, live }) => [id, live])).toEqual([
      ['one again', true],
      ['two', true],
    ])
    await leases.leave('two')
    expect((await leases.engines()).find(({ id }) => id === 'two')!.live).toBe(false)
    expect((await leases.work())[0]!.free).toBe(true)
  })

  test('errands wait in the order in which they were asked, and are begun by whoever holds the pipeline', async () => {
    const { errands, leases, pipelines } = store
    const errand = (id: string, second: number) => ({
      id,
      pipeline: 'p',
      kind: 'recopy' as const,
      lanes: [second],
      to: null,
      reason: null,
      held: null,
      repair: null,
      send: null,
      twoWay: null,
      askedBy: null,
      askedAt: `2026-11-20T10:00:0${second}.000Z`,
    })
    await errands.ask(errand('b', 2))
    await errands.ask(errand('a', 1))
    expect((await errands.waiting('p')).map(({ id, state }) => [id, state])).toEqual([
      ['a', 'waiting'],
      ['b', 'waiting'],
    ])
    expect((await leases.work())[0]!.errands).toEqual(['a', 'b'])
    await leases.begin({ id: 'engine', name: 'E', home: 'h' })
    expect(await leases.take('p', 'engine')).toBe(true)
    const at = '2026-11-20T10:00:05.000Z'
    expect(await errands.begin('a', 'another', at)).toBe(false)
    expect(await errands.begin('a', 'engine', at)).toBe(true)
    await errands.end('a', { state: 'done', outcome: 'Emptied.', endedAt: at })
    expect(await errands.begin('a', 'engine', at)).toBe(false)
    expect((await leases.work())[0]!.errands).toEqual(['b'])
    expect((await errands.last('p', 5)).map(({ id, state, outcome }) => [id, state, outcome])).toEqual([
      ['b', 'waiting', null],
      ['a', 'done', 'Emptied.'],
    ])
    // A start copies everything anew.
    const { definition } = (await pipelines.get('p'))!
    await pipelines.setState('p', 'engine', 'Stopped', null)
    expect(await pipelines.start('p', { definition, lanes: [], steps: [] }, at, null)).toBe(true)
    expect(await errands.waiting('p')).toEqual([])
    await leases.leave('engine')
  })

  test('figures come back in order, at their resolution, and old ones go', async () => {
    const { history } = store
    const now = Date.UTC(2026, 10, 20, 12)
    const sample = (at: number) => ({
      pipeline: 'p',
      at,
      committed: 9_007_199_254_740_991,
      landed: 5,
      copied: 7,
      lag: 0.25,
    })
    await history.addFigures(1, [sample(now), sample(now - 1000), sample(now - 3 * 3600_000)])
    await history.addFigures(60, [sample(now - 3 * 3600_000)])
    expect((await history.figures('p', 1, now - 5000)).map(({ at }) => at)).toEqual([now - 1000, now])
    expect((await history.figures('p', 1, now))[0]).toEqual({
      at: now,
      committed: 9_007_199_254_740_991,
      landed: 5,
      copied: 7,
      lag: 0.25,
    })
    await history.trimFigures(now)
    expect(await history.figures('p', 1, 0)).toHaveLength(2)
    expect(await history.figures('p', 60, 0)).toHaveLength(1)
  })

  test('the log pages backwards; it goes with its pipeline', async () => {
    const { history, pipelines } = store
    await pipelines.create('gone', definition)
    for (const message of ['one', 'two', 'three'])
      await history.log({ level: 'info', pipeline: 'gone', message })
    const [newest, second] = await history.lines({ pipeline: 'gone' }, { limit: 2 })
    expect([newest!.message, second!.message]).toEqual(['three', 'two'])
    expect(
      (await history.lines({ pipeline: 'gone' }, { before: second!.id, limit: 9 })).map(
        ({ message }) => message,
      ),
    ).toEqual(['one'])
    await pipelines.remove('gone')
    expect(await history.lines({ pipeline: 'gone' }, { limit: 9 })).toEqual([])
  })

  test('the log is searched by pipeline, lane, level, text and time; details go first', async () => {
    const { history, pipelines } = store
    await pipelines.create('searched', definition)
    const at = (minute: number) => new Date(Date.UTC(2026, 4, 2, 6, minute)).toISOString()
    await history.log(
      {
        at: at(0),
        level: 'info',
        pipeline: 'searched',
        message: 'Copied 100% of it.',
        lanes: ['nursery.beds'],
      },
      {
        at: at(1),
        level: 'detail',
        pipeline: 'searched',
        message: 'Landed one_row.',
        lanes: ['nursery.beds', 'nursery.visits'],
      },
      {
        at: at(2),
        level: 'warning',
        pipeline: 'searched',
        message: 'The source is away.',
        remedy: 'Look AT it.',
      },
      { at: at(3), level: 'error', pipeline: 'searched', message: 'It stopped.', lanes: ['nursery.visits'] },
    )
    const found = async (query: object) =>
      (await history.lines({ pipeline: 'searched', ...query }, { limit: 9 })).map(line =>
        Number(line.at.slice(15, 16)),
      )
    expect(await found({})).toEqual([3, 2, 1, 0])
    expect(await found({ lane: 'nursery.beds' })).toEqual([1, 0])
    expect(await found({ lane: 'nursery' })).toEqual([])
    expect(await found({ level: 'info' })).toEqual([3, 2, 0])
    expect(await found({ level: 'error' })).toEqual([3])
    expect(await found({ text: 'look at' })).toEqual([2])
    expect(await found({ text: '100%' })).toEqual([0])
    expect(await found({ text: 'e_r' })).toEqual([1])
    expect(await found({ since: at(1), until: at(3) })).toEqual([2, 1])
    const oldestFirst = await history.lines(
      { pipeline: 'searched', level: 'warning' },
      { after: 0, limit: 9 },
    )
    expect(oldestFirst.map(({ level }) => level)).toEqual(['warning', 'error'])
    await history.trimLog(Date.parse(at(0)) + 25 * 3_600_000)
    expect(await found({})).toEqual([3, 2, 0])
    await history.trimLog(Date.parse(at(0)) + 401 * 86_400_000)
    expect(await found({})).toEqual([])
    await pipelines.remove('searched')
  })

  test('the rate of the last copy is known only once there was one worth measuring', async () => {
    const { runs } = store
    expect(await runs.lastCopyRate('a', 'b')).toBeNull()
    const begun = beginRun(
      { id: 'r1', pipeline: 'p', kind: 'copy', from: 'a', to: 'b' },
      '2026-11-20T10:00:00.000Z',
    )
    await runs.put(begun)
    expect(await runs.lastCopyRate('a', 'b')).toBeNull()
    const done = { ...begun, state: 'done' as const, endedAt: '2026-11-20T10:00:10.000Z', rows: 50_000 }
    await runs.put(done)
    expect(await runs.lastCopyRate('a', 'b')).toBe(5000)
    expect(await runs.list({ pipeline: 'p' }, 9)).toEqual([{ ...done, origin: '', of: 'p' }])
  })

  test('runs that a killed engine left open end when they were told last', async () => {
    const { runs } = store
    await runs.put(
      beginRun({ id: 'r2', pipeline: 'p', kind: 'follow', from: 'a', to: 'b' }, '2026-11-20T11:00:00.000Z'),
    )
    await runs.cutOff('p')
    const [newest, before] = await runs.list({}, 9)
    expect([newest!.id, newest!.state, newest!.endedAt === null]).toEqual(['r2', 'cut off', false])
    expect(before!.state).toBe('done')
    expect(await runs.list({ kinds: ['copy'] }, 9)).toHaveLength(1)
    expect(await runs.list({ since: '2026-11-20T10:30:00Z' }, 9)).toHaveLength(1)
    await runs.trim(Date.now() + 401 * 86_400_000)
    expect(await runs.list({}, 9)).toEqual([])
  })

  test('readings of lanes: the last before a moment, and those since', async () => {
    const { history } = store
    const at = (minute: number) => Date.UTC(2026, 4, 2, 6, minute)
    const read = (table: string, minute: number, inserted: number) => ({
      ...{ pipeline: 'p', resolution: 60, table, at: at(minute) },
      ...{ inserted, updated: 0, deleted: 0, truncated: 0, bytes: 8 * inserted },
    })
    await history.addLaneFigures([
      read('beds', 0, 1),
      read('beds', 1, 5),
      read('beds', 4, 9),
      read('visits', 3, 2),
    ])
    const figures = await history.laneFigures('p', 60, at(2))
    expect(figures.get('beds')!.map(({ inserted }) => inserted)).toEqual([5, 9])
    expect(figures.get('visits')!.map(({ inserted }) => inserted)).toEqual([2])
    await history.trimFigures(at(2) + 2 * 86_400_000)
    const left = await history.laneFigures('p', 60, 0)
    expect(left.get('beds')!.map(({ inserted }) => inserted)).toEqual([5, 9])
    await history.trimFigures(at(5) + 2 * 86_400_000)
    expect((await history.laneFigures('p', 60, 0)).get('beds')!.map(({ inserted }) => inserted)).toEqual([9])
  })

  test('everything is there again after it was closed', async () => {
    await store.close()
    store = await openStore({ folder })
    expect((await store.pipelines.list()).map(({ id }) => id)).toEqual(['p'])
    expect((await store.connections.openable('c'))!.config).toEqual({ password: 'sedge' })
  })
})

describe('seal', () => {
  test('a passphrase is stretched with a salt; what was sealed without is opened, and told apart', async () => {
    const seal = await Seal.open('/nowhere', 'under the willows')
    const [one, two] = [
      seal.close('rushes'),
      (await Seal.open('/nowhere', 'under the willows')).close('rushes'),
    ]
    expect(one.slice(0, 20)).not.toBe(two.slice(0, 20))
    expect([seal.open(one), seal.open(two), seal.isOutdated(one)]).toEqual(['rushes', 'rushes', false])
    // As earlier versions did it: the bare digest of the passphrase.
    const cipher = createCipheriv(
      'aes-256-gcm',
      createHash('sha256').update('under the willows').digest(),
      Buffer.alloc(12),
    )
    const body = Buffer.concat([cipher.update('sedge'), cipher.final()])
    const old = Buffer.concat([Buffer.alloc(12), cipher.getAuthTag(), body]).toString('base64')
    expect([seal.open(old), seal.isOutdated(old)]).toEqual(['sedge', true])
    expect(() => seal.open(one.slice(0, -8) + 'AAAAAAA=')).toThrow('cannot be read with the present key')
  })

  test('its key file is made once and only for its owner; another key or a changed text is refused', async () => {
    const place = mkdtempSync(join(tmpdir(), 'constant-tide-seal-'))
    const seal = await Seal.open(place, undefined)
    expect(statSync(join(place, 'secrets.key')).mode & 0o777).toBe(0o600)
    const sealed = seal.close('rushes')
    expect(sealed).not.toBe(seal.close('rushes'))
    expect((await Seal.open(place, undefined)).open(sealed)).toBe('rushes')
    expect(readFileSync(join(place, 'secrets.key'), 'utf8')).toMatch(/^[0-9a-f]{64}$/)
    const other = await Seal.open(place, 'a passphrase')
    expect(() => other.open(sealed)).toThrow('cannot be read with the present key')
    const bytes = Buffer.from(sealed, 'base64')
    bytes[bytes.length - 1]! ^= 1
    expect(() => seal.open(bytes.toString('base64'))).toThrow('cannot be read')
    rmSync(place, { recursive: true })
  })
})
