/** Column rules, masks, scopes and deletions: what reaches a target, by the copy and by what follows. */
import { describe, expect, test } from '@jest/globals'
import { shapedEffect } from '@tide/core/apply/effect'
import { IdentityFold } from '@tide/core/apply/fold'
import { hinders } from '@tide/core/plan/note'
import type { Lane, WrittenColumn } from '@tide/core/plan/lane'
import { makePlan } from '@tide/core/plan/plan'
import type { PlanInput } from '@tide/core/plan/input'
import type { ChangeEvent, SourceTransaction } from '@tide/core/records/change'
import { csvLine } from '@tide/core/records/csv'
import { wholeLines } from '@tide/core/records/csv-lines'
import type { Dataset } from '@tide/core/records/dataset'
import { filledRow, packRow, unpackRow } from '@tide/core/records/tuple'
import { keyText, type Row, type Value } from '@tide/core/records/value'
import type { Condition } from '@tide/core/scope/condition'
import { copiedShaper } from '@tide/core/shape/copied'
import { duckdbColumn } from '@tide/core/shape/duckdb'
import type { ColumnRule } from '@tide/core/shape/column-rule'
import { masking } from '@tide/core/shape/mask'
import { laneShaper } from '@tide/core/shape/row'
import { madeColumns } from '@tide/core/shape/written'
import fc from 'fast-check'

const SHAPING = { origin: 'north', hash: (text: string) => `#${Buffer.from(text).toString('hex')}` }
const NOW = '2026-11-20T10:00:05Z'
const READS = ['id', 'mail', 'note'].map(name => ({
  name,
  type: { kind: 'utf8' } as const,
  nativeType: 'text',
  nullable: true,
}))
const written = (name: string, value: WrittenColumn['value']): WrittenColumn => ({
  ...READS[0]!,
  name,
  value,
})
const laneOf = (part: Partial<Lane>): Lane => ({
  source: { namespace: 's', name: 't' },
  target: { namespace: 'w', name: 't' },
  reads: READS,
  identity: ['id'],
  writes: READS.map(({ name }) => written(name, { from: 'column', column: name })),
  key: ['id'],
  scope: null,
  rows: 0,
  rowsExact: true,
  bytes: 0,
  ...part,
})

describe('masks', () => {
  test('show nothing but the ends that they leave, and hide short values whole', () => {
    const mask = masking({ mask: 'ends', first: 1, last: 2 }, SHAPING.hash)
    expect(['ada@example.org', 'ab', 'abc', '🌱🌱🌱🌱'].map(mask)).toEqual([
      'a************rg',
      '**',
      '***',
      '🌱*🌱🌱',
    ])
    expect(mask(null)).toBeNull()
    expect(masking({ mask: 'constant', by: 'x' }, SHAPING.hash)(null)).toBe('x')
  })
})

const anyValue = fc.oneof(
  fc.constantFrom<Value>(null, '', '\\.', '"', ',', '\n', '\r', 'a"b', '\u{feff}'),
  fc.string({ unit: 'grapheme' }),
)
const anyWrites = fc
  .array(
    fc.oneof(
      fc
        .constantFrom('id', 'mail', 'note')
        .map((column): WrittenColumn['value'] => ({ from: 'column', column })),
      fc
        .tuple(fc.constantFrom('mail', 'note'), fc.constantFrom('hash' as const, 'nothing' as const))
        .map(([column, mask]): WrittenColumn['value'] => ({ from: 'masked', column, how: { mask } })),
      anyValue.map((value): WrittenColumn['value'] => ({ from: 'constant', value: value ?? null })),
      fc.constantFrom<WrittenColumn['value']>(
        { from: 'origin' },
        { from: 'metadata', what: 'operation' },
        { from: 'metadata', what: 'deleted at' },
        { from: 'metadata', what: 'landed at' },
        { from: 'computed', expression: 'coalesce(note, "none") + coalesce(id, "")' },
        { from: 'computed', expression: 'mail == null ? null : mail + meta.operation' },
      ),
    ),
    { maxLength: 5 },
  )
  .map(values => [
    written('id', { from: 'column', column: 'id' }),
    ...values.map((value, i) => written(`c${i}`, value)),
  ])
const anyScope = fc.constantFrom<Condition | null>(
  null,
  { column: 'note', isNull: false },
  { column: 'note', op: 'is less than', value: 'm' },
  { not: { column: 'mail', in: ['', 'a'] } },
  { all: [{ column: 'note', isNull: false }, { expression: 'has(note) && note < "m"' }] },
)

test('the rows of a copy become, from CSV to CSV, what their values become one by one', async () => {
  const cut = fc.integer({ min: 1, max: 40 })
  await fc.assert(
    fc.asyncProperty(
      fc.array(fc.tuple(fc.string({ minLength: 1 }), anyValue, anyValue)),
      anyWrites,
      anyScope,
      cut,
      async (rows, writes, scope, size) => {
        const lane = laneOf({ writes, scope })
        const csv = Buffer.from(rows.map(row => csvLine(row)).join(''))
        const parts = Array.from({ length: Math.ceil(csv.length / size) }, (_, i) =>
          csv.subarray(i * size, (i + 1) * size),
        )
        const shape = copiedShaper(lane, SHAPING)
        let shaped = ''
        for await (const lines of wholeLines(parts))
          shaped += Buffer.from(shape ? shape(lines, { position: '0/1', landedAt: NOW }) : lines).toString()
        const made = madeColumns(lane, SHAPING)
        const coming = { op: 'copy', committedAt: null, position: '0/1', landedAt: NOW } as const
        const shaper = laneShaper(lane, SHAPING)
        const expected = rows
          .filter(row => {
            const fold = new IdentityFold([0])
            fold.add({ op: 'insert', lane: 0, number: 0, after: packRow(row) }, TRANSACTION)
            return shapedEffect(fold, shaper, NOW).effect.puts.length === 1
          })
          .map(row => csvLine(made.map(({ make }) => make(row, coming))))
        expect(shaped).toBe(expected.join(''))
      },
    ),
    { numRuns: 300 },
  )
})

const TRANSACTION: SourceTransaction = { id: 'x', start: '0/10', at: '2026-11-20T10:00:00Z', events: [] }

/** A source and a target in memory: what is landed batch by batch is held against what each change alone would do. */
function play(lane: Lane, rolls: Roll[], size: number) {
  const shaper = laneShaper(lane, SHAPING)
  const rows = new Map<string, Row>()
  const there = new Map<string, Value[]>()
  let fold = new IdentityFold([0], shaper.keyIsIdentity ? undefined : shaper.keyBeyond)
  const apply = (folded: Parameters<typeof shapedEffect>[0]) => {
    const { effect, needs, misfits } = shapedEffect(folded, shaper, NOW)
    expect(misfits).toEqual([])
    if (effect.truncate) there.clear()
    const { markAll } = effect
    if (markAll) {
      const place = lane.writes.findIndex(({ name }) => name === markAll.column)
      for (const row of there.values()) row[place] ??= markAll.value
    }
    for (const key of effect.removed) there.delete(keyText(key))
    const fetch = needs.map(({ identity }) => identity)
    for (const { key, row, from, identity } of effect.puts) {
      const before = from && there.get(keyText(from))
      if (from && !before && unpackRow(row).includes(undefined)) fetch.push(identity)
      else there.set(keyText(key), unpackRow(before ? filledRow(row, packRow(before)) : row))
    }
    if (fetch.length === 0) return
    apply({
      truncate: false,
      fresh: false,
      keys: fetch.map(identity => {
        const row = rows.get(identity[0]!)
        return {
          identity,
          after: row && packRow(row),
          from: undefined,
          before: undefined,
          images: undefined,
          untold: false,
          transaction: TRANSACTION,
          number: 0,
          op: 'update' as const,
        }
      }),
    })
  }
  rolls.forEach(({ id, mail, note, what, unsent }, number) => {
    const before = rows.get(id)
    const row: Row = [id, mail, note]
    let event: ChangeEvent | undefined
    const place = { lane: 0, number }
    if (what === 'truncate') event = { op: 'truncate', ...place }
    else if (what === 'delete')
      event = before && { op: 'delete', ...place, before: packRow([id, null, null]) }
    else if (before) {
      // What was not changed may not be sent.
      const sent: Row = unsent ? [id, mail, undefined] : row
      const after = packRow(sent)
      event = { op: 'update', ...place, before: after, after }
      rows.set(id, unsent ? [id, mail, before[2]!] : row)
    } else {
      event = { op: 'insert', ...place, after: packRow(row) }
      rows.set(id, row)
    }
    if (what === 'delete') rows.delete(id)
    if (what === 'truncate') rows.clear()
    if (event) fold.add(event, TRANSACTION)
    if (number % size === 0) {
      apply(fold)
      fold = new IdentityFold([0], shaper.keyIsIdentity ? undefined : shaper.keyBeyond)
    }
  })
  apply(fold)
  return { rows, there: [...there.values()] }
}

interface Roll {
  id: string
  mail: string
  note: string | null
  what: 'put' | 'delete' | 'truncate'
  unsent: boolean
}
const rolls = fc.array(
  fc.record<Roll>({
    id: fc.constantFrom('1', '2', '3'),
    mail: fc.constantFrom('', 'a', 'b'),
    note: fc.constantFrom(null, 'a', 'z'),
    what: fc.constantFrom('put', 'put', 'put', 'put', 'delete', 'truncate'),
    unsent: fc.boolean(),
  }),
  { maxLength: 30 },
)
const HASHED: WrittenColumn[] = [
  written('id', { from: 'masked', column: 'id', how: { mask: 'hash' } }),
  written('mail', { from: 'masked', column: 'mail', how: { mask: 'hash' } }),
  written('note', { from: 'column', column: 'note' }),
  written('gone', { from: 'metadata', what: 'deleted at' }),
]

describe('any history, in batches of any size, leaves the rows that it should', () => {
  test.each<[string, Partial<Lane>]>([
    ['as they are', {}],
    ['with masks, also in the key', { writes: HASHED, key: ['id'] }],
  ])('%s, in any scope', (_, part) => {
    fc.assert(
      fc.property(rolls, anyScope, fc.integer({ min: 1, max: 7 }), (rolls, scope, size) => {
        const lane = laneOf({ ...part, scope })
        const { rows, there } = play(lane, rolls, size)
        const made = madeColumns(lane, SHAPING)
        const coming = { op: 'update', committedAt: null, position: null, landedAt: NOW } as const
        const scoped = [...rows.values()].filter(row => {
          if (scope === null) return true
          const [, mail, note] = row
          if ('not' in scope) return !['', 'a'].includes(mail!)
          return note !== null && note !== undefined && ('isNull' in scope || note < 'm')
        })
        const expected = scoped.map(row => made.map(({ make }) => make(row, coming)))
        expect(there.map(row => JSON.stringify(row)).sort()).toEqual(
          expected.map(row => JSON.stringify(row)).sort(),
        )
      }),
      { numRuns: 400 },
    )
  })

  test('where deleted rows are marked or kept, none that has landed ever goes', () => {
    fc.assert(
      fc.property(rolls, fc.constantFrom('mark' as const, 'keep' as const), (rolls, deletes) => {
        const writes = [...laneOf({}).writes, written('gone', { from: 'metadata', what: 'deleted at' })]
        const lane = laneOf({ writes: deletes === 'mark' ? writes : laneOf({}).writes, deletes })
        // Every change lands by itself, so that each row has been there.
        const { rows, there } = play(lane, rolls, 1)
        const ever = new Set(rolls.filter(({ what }) => what === 'put').map(({ id }) => id))
        expect(there.map(([id]) => id).sort()).toEqual([...ever].sort())
        for (const [id, mail, note, gone] of there) {
          const row = rows.get(id!)
          if (row) expect([id, mail, note]).toEqual([...row])
          if (deletes === 'mark') expect(gone).toBe(row ? null : '2026-11-20 10:00:00+00')
        }
      }),
      { numRuns: 400 },
    )
  })
})

const field = (name: string, nullable = true): Dataset['fields'][number] => ({
  name,
  type: { kind: 'utf8' },
  nativeType: 'text',
  nullable,
})
const contacts: Dataset = {
  namespace: 's',
  name: 'contacts',
  kind: 'table',
  fields: [field('id', false), field('mail', false), field('note')],
  key: ['id'],
  rows: 1,
  rowsExact: true,
  bytes: 1,
}
const only = (source: Dataset[]): PlanInput['origins'] => [{ tag: '', sameKind: false, source }]

const plan = (part: Partial<PlanInput>) =>
  makePlan({
    tables: [contacts],
    targetSchema: 'w',
    names: [],
    origins: only([contacts]),
    target: [],
    targetSchemas: ['w'],
    profile: {
      naming: { fold: 'none', allowed: 'any', maxLength: 60 },
      typeOf: duckdbColumn,
      nameKey: name => name.toLowerCase(),
      needsKey: 'unique',
      keepsOthers: true,
    },
    claims: [],
    own: [],
    ...part,
  })

describe('a plan with column rules', () => {
  test('a limit cuts what is taken, beside a column that says so, and takes no mask away', () => {
    const { lanes, notes } = plan({
      columns: [
        { like: '*.mail', does: { mask: 'hash' } },
        { like: '*', does: { limit: 40, suffix: ' was longer' } },
      ],
    })
    expect(notes).toEqual([])
    expect(lanes[0]!.writes.map(({ name, value }) => [name, value])).toEqual([
      ['id', { from: 'column', column: 'id' }],
      ['mail', { from: 'masked', column: 'mail', how: { mask: 'hash' } }],
      ['note', { from: 'cut', column: 'note', bytes: 40 }],
      ['note was longer', { from: 'was cut', column: 'note', bytes: 40 }],
    ])
  })

  test.each<[string, string, string]>([
    ['note', 'varchar', 's.contacts.note: there is no type “varchar”.'],
    ['id', 'date', 's.contacts.id is part of the key: as date, different keys could become one.'],
  ])('refuses %s as %s', (column, become, message) => {
    const { notes } = plan({ columns: [{ like: `s.contacts.${column}`, does: { become } }] })
    expect(notes).toMatchObject([{ level: 'refused', section: 'columns', message }])
  })

  test('leaves out, masks and adds; of several rules for a column the last decides', () => {
    const { lanes, notes } = plan({
      columns: [
        { like: '*.note', does: { mask: 'hash' } },
        { like: 's.contacts.note', does: { leave: 'out' } },
        { like: '*.mail', does: { mask: 'nothing' } },
        { like: 's.*', does: { add: 'changed', metadata: 'committed at' } },
        { like: 's.contacts', does: { add: 'house', constant: 'north' } },
      ],
      deletes: { mark: 'gone' },
    })
    expect(lanes[0]!.reads.map(({ name }) => name)).toEqual(['id', 'mail'])
    expect(
      lanes[0]!.writes.map(({ name, nativeType, nullable }) => `${name} ${nativeType} ${nullable}`),
    ).toEqual([
      'id VARCHAR false',
      'mail VARCHAR true',
      'changed TIMESTAMPTZ true',
      'house VARCHAR false',
      'gone TIMESTAMPTZ true',
    ])
    expect(lanes[0]!.deletes).toBe('mark')
    expect(notes.map(({ message }) => message)).toEqual([
      'Column rule 1 decides nothing: no chosen column or table is like *.note, or a later rule decides it.',
      'Rows that the source deletes stay at the target, marked.',
    ])
  })

  test.each<[string, Partial<PlanInput>, string]>([
    [
      'a key left out',
      { columns: [{ like: '*.id', does: { leave: 'out' } }] },
      's.contacts.id is part of the key',
    ],
    [
      'a key that rows could not be told apart by',
      { columns: [{ like: '*.id', does: { mask: 'ends', first: 1, last: 0 } }] },
      'rows could not be told apart',
    ],
    [
      'an added column that is there',
      { columns: [{ like: '*', does: { add: 'MAIL', constant: '' } }] },
      'two columns that both become MAIL',
    ],
    [
      'a scope on a column that is not there',
      { scopes: [{ like: '*', where: { column: 'nots', isNull: true } }] },
      'There is no column nots.',
    ],
    [
      'a scope by an expression that has a mistake',
      { scopes: [{ like: '*', where: { expression: 'has(nots)' } }] },
      'At character 5 of the expression: There is no column nots.',
    ],
    [
      'a scope by an expression that is no test',
      { scopes: [{ like: '*', where: { expression: 'coalesce(note, "")' } }] },
      'The expression gives a text, and neither true nor false.',
    ],
    [
      'a scope that asks how a row came',
      { scopes: [{ like: '*', where: { expression: 'meta.operation == "copy"' } }] },
      'how the row came, which says nothing of whether it takes part',
    ],
    [
      'a text as a number',
      {
        origins: only([
          { ...contacts, fields: [...contacts.fields, { ...field('n'), type: { kind: 'decimal' } }] },
        ]),
        scopes: [{ like: '*', where: { column: 'n', op: 'equals', value: 'two' } }],
      },
      '“two” is no value of n, which is a decimal without limits.',
    ],
  ])('refuses %s', (_, part, message) => {
    expect(
      plan(part)
        .notes.filter(hinders)
        .map(note => note.message)
        .join(),
    ).toContain(message)
  })

  test('reads what the scope looks at, also where it goes no further', () => {
    const { lanes } = plan({
      columns: [{ like: '*.note', does: { leave: 'out' } }],
      scopes: [{ like: 's.*', where: { column: 'note', isNull: true } }],
    })
    expect(lanes[0]!.reads.map(({ name }) => name)).toEqual(['id', 'mail', 'note'])
    expect(lanes[0]!.writes.map(({ name }) => name)).toEqual(['id', 'mail'])
  })
})

describe('a plan with computed columns', () => {
  const fields = [field('id', false), field('mail', false), field('note')]
  const computed = (compute: string, does: object = { add: 'made' }) =>
    plan({ columns: [{ like: 's.contacts', does: { ...does, compute } as ColumnRule['does'] }] })

  test('adds them with the type of what they give, and whether they may be null', () => {
    const { lanes, notes } = computed('size(mail) * 2')
    expect(notes).toEqual([])
    expect(lanes[0]!.writes.at(-1)).toMatchObject({
      name: 'made',
      nativeType: 'BIGINT',
      nullable: false,
      value: { from: 'computed', expression: 'size(mail) * 2' },
    })
    expect(computed('orNull(upper(note))').lanes[0]!.writes.at(-1)).toMatchObject({ nullable: true })
  })

  test('put one in the place of another column, which is read and goes no further', () => {
    const { lanes, notes } = plan({
      columns: [{ like: 's.contacts.note', does: { compute: 'coalesce(note, "") + mail' } }],
    })
    expect(notes).toEqual([])
    expect(lanes[0]!.writes.map(({ name, value }) => [name, value.from])).toEqual([
      ['id', 'column'],
      ['mail', 'column'],
      ['note', 'computed'],
    ])
  })

  test('read what is left out for all others', () => {
    const { lanes } = plan({
      columns: [
        { like: 's.contacts.note', does: { leave: 'out' } },
        { like: 's.contacts', does: { add: 'made', compute: 'coalesce(note, "none")' } },
      ],
    })
    expect(lanes[0]!.reads.map(({ name }) => name)).toEqual(fields.map(({ name }) => name))
    expect(lanes[0]!.writes.map(({ name }) => name)).toEqual(['id', 'mail', 'made'])
  })

  test.each<[string, string, RegExp]>([
    [
      'a column that is not there',
      'nothing',
      /s.contacts.made, at character 1 of its expression: There is no column/,
    ],
    ['what may be null', '"a" + note', /at character 7 of its expression: note may be null/],
  ])('%s is refused where it stands', (_, expression, message) => {
    const { notes } = computed(expression)
    expect(notes.map(({ level, section }) => [level, section])).toEqual([['refused', 'columns']])
    expect(notes[0]!.message).toMatch(message)
  })

  test('are no part of a key', () => {
    const { notes } = plan({ columns: [{ like: 's.contacts.id', does: { compute: 'mail' } }] })
    expect(notes.map(({ message }) => message)).toContain(
      's.contacts.id is part of the key, and cannot be computed.',
    )
  })
})
