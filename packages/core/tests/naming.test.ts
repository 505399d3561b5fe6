import { describe, expect, test } from '@jest/globals'
import { Namer } from '@tide/core/naming/namer'
import { namesOf } from '@tide/core/naming/names'
import { exactPattern, matcherOf, pathOf } from '@tide/core/naming/pattern'
import { fitName, type NamingProfile } from '@tide/core/naming/profile'
import { proposeRules } from '@tide/core/naming/propose'
import type { NamingRule } from '@tide/core/naming/rule'
import type { Dataset } from '@tide/core/records/dataset'
import fc from 'fast-check'

const profile: NamingProfile = { fold: 'upper', allowed: 'word', maxLength: 24 }
const target = { naming: profile, nameKey: (name: string) => name.toLowerCase() }

const dataset = (namespace: string, name: string, columns: readonly string[] = []): Dataset => ({
  namespace,
  name,
  kind: 'table',
  fields: columns.map(column => ({
    name: column,
    type: { kind: 'utf8' },
    nativeType: 'text',
    nullable: true,
  })),
  key: [],
  rows: 0,
  rowsExact: true,
  bytes: 0,
})

const pieces = fc.constantFrom('a', 'B', 'ß', 'é', '🌱', ' ', '/', '.', '*', '?', '\\', '_', '1', '', 'Beet')
const anyName = fc.array(pieces, { minLength: 1, maxLength: 12 }).map(parts => parts.join('') || 'x')
const anyProfile = fc.record<NamingProfile>({
  fold: fc.constantFrom('none', 'upper', 'lower'),
  allowed: fc.constantFrom('any', 'word', 'bmp'),
  maxLength: fc.integer({ min: 12, max: 40 }),
})
const anyDatasets = fc
  .array(fc.tuple(anyName, anyName, fc.uniqueArray(anyName, { maxLength: 5 })), { maxLength: 8 })
  .map(tables => {
    const unique = new Map(tables.map(table => [JSON.stringify([table[0], table[1]]), table]))
    return [...unique.values()].map(([namespace, name, columns]) => dataset(namespace, name, columns))
  })
const anyRule = fc.record<NamingRule>(
  {
    names: fc.constantFrom('all', 'schemas', 'tables', 'columns'),
    like: fc.oneof(anyName, fc.constant('*')),
    does: fc.oneof(
      fc.constantFrom<NamingRule['does']>(
        { make: 'upper case' },
        { make: 'lower case' },
        { make: 'plain letters' },
        { find: '[^a-z]+', by: '_' },
        { find: '(a)(.)', by: '$2$1' },
        { shorten: 12 },
        { shorten: 'to fit' },
      ),
      anyName.map(prefix => ({ prefix })),
      anyName.map(suffix => ({ suffix })),
      fc.tuple(anyName, anyName).map(([replace, by]) => ({ replace, by })),
    ),
  },
  { requiredKeys: ['names', 'does'] },
)

describe('patterns', () => {
  test.each([
    ['sales.*', 'sales.orders', true],
    ['sales.*', 'sale.orders', false],
    ['*.tmp_?', 'a.tmp_1', true],
    ['*.tmp_?', 'a.tmp_12', false],
    ['*a*b', 'xaxxbxb', true],
    ['*a*b', 'xaxxbxc', false],
    ['?', '🌱', true],
    ['a\\*', 'a*', true],
    ['a\\*', 'ab', false],
  ])('%s on %s: %s', (pattern, name, matches) => {
    expect(matcherOf(pattern)(name)).toBe(matches)
  })

  test('the pattern of a name matches that name alone, whatever it holds', () => {
    fc.assert(
      fc.property(anyName, anyName, anyName, anyName, (a, b, c, d) => {
        const matches = matcherOf(exactPattern(a, b))
        expect(matches(pathOf(a, b))).toBe(true)
        expect(matches(pathOf(c, d))).toBe(a === c && b === d)
      }),
    )
  })

  test('says what a regular expression says', () => {
    const letters = fc.stringMatching(/^[ab*?]{0,8}$/)
    fc.assert(
      fc.property(letters, fc.stringMatching(/^[ab]{0,8}$/), (pattern, name) => {
        const same = new RegExp(`^${pattern.replaceAll('*', '.*').replaceAll('?', '.')}$`)
        expect(matcherOf(pattern)(name)).toBe(same.test(name))
      }),
    )
  })

  test('takes no longer for many stars', () => {
    expect(matcherOf(`${'*a'.repeat(150)}b`)('a'.repeat(300))).toBe(false)
  })
})

describe('naming rules', () => {
  test('are applied in order, to the names that they are about', () => {
    const rules: NamingRule[] = [
      { names: 'tables', like: 'Field Notes.*', does: { prefix: 'fn ' } },
      { names: 'all', does: { find: '[^A-Za-z0-9]+', by: '_' } },
      { names: 'columns', like: '*.id', does: { call: 'plot_id' } },
      { names: 'tables', like: '*.Plot*', does: { schema: 'plots' } },
    ]
    const namer = new Namer(rules, profile, '')
    const plot = { namespace: 'Field Notes', name: 'Plot / Row' }
    expect(namer.table(plot)).toEqual({ name: 'FN_PLOT_ROW', by: [0, 1] })
    expect(namer.schema(plot)).toEqual({ name: 'PLOTS', by: [3] })
    expect(namer.schema({ namespace: 'Field Notes', name: 'Bed' })).toEqual({ name: 'FIELD_NOTES', by: [1] })
    expect(namer.column(plot, 'id')).toEqual({ name: 'PLOT_ID', by: [2] })
    expect(namer.column(plot, 'id 2')).toEqual({ name: 'ID_2', by: [1] })
  })

  test('what is replaced is taken as it is, also with signs that mean something elsewhere', () => {
    const namer = new Namer(
      [{ names: 'all', does: { replace: '.', by: '$&' } }],
      { ...profile, allowed: 'any' },
      '',
    )
    expect(namer.table({ namespace: '', name: 'a.b' }).name).toBe('A$&B')
  })

  test.each<[string, NamingRule, RegExp]>([
    ['no regular expression', { names: 'all', does: { find: '(', by: '' } }, /\( is no regular expression/],
    ['one that looks ahead', { names: 'all', does: { find: 'a(?=b)', by: '' } }, /no regular expression/],
    ['a group that is not there', { names: 'all', does: { find: 'a', by: '$2' } }, /has no group 2/],
    ['one that repeats too much', { names: 'all', does: { find: '[a-z]{1000}', by: '' } }, /repeats so much/],
    ['one name for all', { names: 'tables', does: { call: 'x' } }, /makes them meet/],
    ['columns into a schema', { names: 'columns', does: { schema: 'x' } }, /Only tables/],
  ])('%s is named', (_, rule, message) => {
    expect(new Namer([rule], profile, '').faults).toEqual([
      { rule: 0, message: expect.stringMatching(message), remedy: expect.stringMatching(/./) },
    ])
  })

  test('a regular expression takes time in proportion to the name', () => {
    const namer = new Namer([{ names: 'all', does: { find: '(a+)+$', by: '' } }], profile, '')
    expect(namer.table({ namespace: '', name: `${'a'.repeat(250)}b` }).by).toEqual([])
  })

  test('an expression that JavaScript carries out says what RE2 says', () => {
    const part = fc.constantFrom('a-z', 'A-Z', '0-9', '_', ' ', 'x', 'a')
    const expressions = fc
      .tuple(
        fc.boolean(),
        fc.boolean(),
        fc.boolean(),
        fc.boolean(),
        fc.array(part, { minLength: 1, maxLength: 3 }),
      )
      .map(([start, group, not, many, parts]) => {
        const one = `[${not ? '^' : ''}${parts.join('')}]${many ? '+' : ''}`
        return `${start ? '^' : ''}${group ? `(${one})` : one}`
      })
    const fromBeginning = fc
      .tuple(
        fc.constantFrom('', 'a', 'x_'),
        expressions,
        fc.constantFrom('*', '+'),
        fc.constantFrom('', 'a', ' @'),
      )
      .map(
        ([before, one, many, after]) =>
          `^${before}${one.replace(/[\^(]?\(?(\[.*\]).*/, '$1')}${many}${after}`,
      )
    const wide: NamingProfile = { fold: 'none', allowed: 'any', maxLength: 1000 }
    fc.assert(
      fc.property(
        fc.oneof(expressions, fromBeginning),
        anyName,
        fc.constantFrom('', '_', '$$', '<$&>'),
        (find, name, by) => {
          const plain = new Namer([{ names: 'all', does: { find, by } }], wide, '')
          // A group that says nothing keeps it from being plain.
          const other = new Namer([{ names: 'all', does: { find: `(?:${find})`, by } }], wide, '')
          const table = { namespace: '', name }
          expect(plain.table(table)).toEqual(other.table(table))
        },
      ),
    )
  })

  test('a shortened name keeps its digest, whatever other names there are, and fits', () => {
    const rules: NamingRule[] = [{ names: 'all', does: { shorten: 'to fit' } }]
    fc.assert(
      fc.property(
        fc.string({ unit: 'grapheme', minLength: 1, maxLength: 60 }),
        fc.constantFrom(20, 63),
        (name, maxBytes) => {
          const limits: NamingProfile = { fold: 'upper', allowed: 'any', maxLength: 63, maxBytes }
          const { name: short, refused } = new Namer(rules, limits, '').table({ namespace: 's', name })
          expect(refused).toBeUndefined()
          expect(Buffer.byteLength(short)).toBeLessThanOrEqual(maxBytes)
        },
      ),
    )
  })

  test('the outcome of a name does not depend on what other tables are chosen', () => {
    fc.assert(
      fc.property(anyDatasets, fc.array(anyRule, { maxLength: 4 }), fc.nat(), (datasets, rules, n) => {
        const namer = () => new Namer(rules, profile, '')
        const all = namesOf(datasets, namer(), target)
        const one = datasets[n % Math.max(datasets.length, 1)]
        for (const { path, name, by } of one ? namesOf([one], namer(), target) : [])
          expect(all.find(other => JSON.stringify(other.path) === JSON.stringify(path))).toMatchObject({
            name,
            by,
          })
      }),
    )
  })
})

describe('proposed rules', () => {
  test('make every name fit and none meet, for whatever names there are', () => {
    fc.assert(
      fc.property(anyDatasets, anyProfile, fc.constantFrom('', 'main'), (datasets, naming, schema) => {
        const to = { ...target, naming }
        const rules = proposeRules(datasets, [], schema, to)
        const names = namesOf(datasets, new Namer(rules, naming, schema), to)
        expect(names.filter(({ refused, meets }) => refused ?? meets)).toEqual([])
        for (const { name } of names) expect(fitName(name, naming)).toEqual({ name })
        // What was proposed is enough, so that nothing more is proposed after it.
        expect(proposeRules(datasets, rules, schema, to)).toEqual(rules)
      }),
      { numRuns: 300 },
    )
  })

  test('are none where nothing is amiss, and no more than are needed', () => {
    const wide = { naming: { ...profile, allowed: 'any' } as NamingProfile, nameKey: target.nameKey }
    expect(proposeRules([dataset('s', 'a b')], [], '', wide)).toEqual([])
    expect(proposeRules([dataset('s', 'a b')], [], '', target)).toEqual([
      { names: 'all', does: { find: '[^A-Za-z0-9_]+', by: '_' } },
    ])
  })

  test('keep what is there', () => {
    const present: NamingRule[] = [{ names: 'tables', does: { prefix: 'x ' } }]
    const rules = proposeRules([dataset('s', 'a'), dataset('s', 'A')], present, '', target)
    expect(rules[0]).toBe(present[0])
    expect(rules.at(-1)).toEqual({ names: 'tables', like: 's.A', does: { call: 'X_A_2' } })
  })
})
