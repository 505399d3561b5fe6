import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import { BOX, layOut, type MapRoute, type MapSystem } from '../src/map/layout.ts'
import { bytes, count, duration, plural } from '../src/format.ts'
import { setupPath, waysBetween } from '../src/map/joining.ts'

const system = (id: string, band: number): MapSystem => ({ id, band })
const route = (from: string, to: string): MapRoute => ({ id: `${from} ${to}`, from, to })

describe('map', () => {
  test('systems stand under what they are joined to, so that ribbons do not cross', () => {
    const systems = ['a', 'b', 'c'].flatMap((id, i) => [system(id, 1), system(`w${2 - i}`, 2)])
    const routes = [route('a', 'w0'), route('b', 'w1'), route('c', 'w2')]
    const { systems: placed } = layOut(systems, routes, 900, [60, 300, 300])
    const order = (ids: string[]) =>
      [...ids].sort((x, y) => placed.get(x)!.x - placed.get(y)!.x).map(id => id.at(-1))
    const above = order(['a', 'b', 'c']).map(id => ({ a: '0', b: '1', c: '2' })[id!])
    expect(order(['w0', 'w1', 'w2'])).toEqual(above)
  })

  test('what passes over a band goes between its boxes, and its label stands over none', () => {
    const systems = [system('app', 0), ...['a', 'b', 'c'].map(id => system(id, 1)), system('w', 2)]
    const { systems: placed, ribbons } = layOut(systems, [route('w', 'app')], 960, [200, 200, 200])
    const { path, label } = ribbons.get('w app')!
    const [, through] = /([\d.]+),300 C/.exec(path)!
    for (const id of ['a', 'b', 'c']) {
      const box = placed.get(id)!
      expect(Math.abs(Number(through) - box.x)).toBeGreaterThan(BOX.width / 2)
      expect(Math.abs(label.y - box.y)).toBeGreaterThan(BOX.height)
    }
  })

  test('systems of one band that are joined stand beside each other', () => {
    const ids = ['p', 'q', 'r', 's', 't']
    const systems = [...ids.map(id => system(id, 0)), system('w', 2)]
    const routes = [route('p', 's'), route('q', 't'), route('w', 'r'), route('w', 'q')]
    const { systems: placed } = layOut(systems, routes, 900, [300, 60, 300])
    const order = ids.toSorted((a, b) => placed.get(a)!.x - placed.get(b)!.x)
    for (const [one, other] of [
      ['p', 's'],
      ['q', 't'],
    ] as const)
      expect(Math.abs(order.indexOf(one) - order.indexOf(other))).toBe(1)
  })

  test('what can begin between two systems is by what they are', () => {
    const database = { band: 'databases', roles: ['source', 'target'] } as const
    const warehouse = { band: 'warehouses', roles: ['target'] } as const
    const app = { band: 'apps', roles: ['target'] } as const
    const files = { band: 'files', roles: ['source', 'target'] } as const
    const shapes = (...[from, to]: Parameters<typeof waysBetween>) =>
      waysBetween(from, to).map(({ shape }) => shape)
    const said = (one: object) =>
      ({ ...one, roles: [...(one as typeof database).roles] }) as Parameters<typeof waysBetween>[0]
    const between = (from: object, to: object) => shapes(said(from), said(to))
    expect(between(database, warehouse)).toEqual(['replicate'])
    expect(between(database, database)).toEqual(['replicate', 'two-way'])
    expect(between(database, app)).toEqual(['send', 'two-way'])
    expect(between(app, app)).toEqual(['two-way'])
    expect(between(warehouse, app)).toEqual(['send'])
    expect(between(app, warehouse)).toEqual([])
    expect(between(files, app)).toEqual([])
    expect(setupPath('two-way', 'a b', 'c')).toBe('/pipelines/new?from=a+b&to=c&shape=two-way')
  })

  test('everything stays inside, boxes of a band do not overlap, every ribbon ends at its system', () => {
    fc.assert(
      fc.property(
        fc.integer({ min: 1, max: 5 }),
        fc.integer({ min: 1, max: 5 }),
        fc.array(fc.tuple(fc.nat(4), fc.nat(4)), { maxLength: 12 }),
        (sources, targets, pairs) => {
          const systems = [
            ...Array.from({ length: sources }, (_, i) => system(`s${i}`, 1)),
            ...Array.from({ length: targets }, (_, i) => system(`t${i}`, 2)),
          ]
          const routes = [
            ...new Map(
              pairs.map(([s, t]) => route(`s${s % sources}`, `t${t % targets}`)).map(one => [one.id, one]),
            ).values(),
          ]
          const { systems: placed, ribbons } = layOut(systems, routes, 1000, [60, 300, 300])
          for (const { x, y } of placed.values()) {
            expect(x).toBeGreaterThan(BOX.width / 2)
            expect(x).toBeLessThan(1000 - BOX.width / 2)
            expect(y).toBeLessThan(660)
          }
          for (const one of routes) {
            const [ribbon, target] = [ribbons.get(one.id)!, placed.get(one.to)!]
            expect(Math.abs(ribbon.end.x - target.x)).toBeLessThanOrEqual(BOX.width / 2)
            expect(ribbon.end.y).toBe(target.y - BOX.height / 2)
          }
          const bands = [systems.filter(one => one.band === 1), systems.filter(one => one.band === 2)]
          for (const band of bands) {
            const xs = band.map(({ id }) => placed.get(id)!.x).sort((a, b) => a - b)
            xs.slice(1).forEach((x, i) => expect(x - xs[i]!).toBeGreaterThanOrEqual(BOX.width))
          }
        },
      ),
    )
  })
})

describe('figures', () => {
  test('read as people read them', () => {
    expect([0.01, 0.62, 9.96, 42.4, 252, 3780, 190_000].map(duration)).toEqual([
      'under 0.1 s',
      '0.6 s',
      '10.0 s',
      '42 s',
      '4 m 12 s',
      '1 h 3 m',
      '2 d 4 h',
    ])
    expect([999, 1200, 33_000, 21_400_000].map(bytes)).toEqual(['999 B', '1.2 kB', '33 kB', '21 MB'])
    expect([plural(1, 'table'), plural(1234, 'row'), count(0)]).toEqual(['1 table', '1,234 rows', '0'])
  })
})
