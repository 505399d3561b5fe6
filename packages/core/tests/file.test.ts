import { describe, expect, test } from '@jest/globals'
import type { Definition } from '@tide/core/definition/definition'
import { definitionOf, fileOf, printFile, readFile } from '@tide/core/definition/file'
import { planMarkdown } from '@tide/core/plan/markdown'
import fc from 'fast-check'

const text = fc.string({ unit: 'grapheme', minLength: 1 })
const orNull = fc.oneof(text, fc.constant(null))
const table = fc.record({ namespace: text, name: text })
const definition = fc.record({
  version: fc.constant(2 as const),
  shape: fc.constant('replicate' as const),
  name: text,
  from: fc.constant('a1'),
  to: fc.constant('b2'),
  targetSchema: text,
  tables: fc.array(table),
  names: fc.array(
    fc.record({ names: fc.constant('all' as const), like: text, does: fc.record({ prefix: text }) }),
    {
      minLength: 1,
    },
  ),
  columns: fc.array(fc.record({ like: text, does: fc.record({ add: text, constant: orNull }) }), {
    minLength: 1,
  }),
  deletes: fc.constantFrom('keep' as const, { mark: 'gone' }),
})
const names = new Map([
  ['a1', 'Site: North #1'],
  ['b2', 'null'],
])
const ids = new Map([...names].map(([id, name]) => [name, id]))

describe('a definition as a file', () => {
  test('comes back as it was, whatever its texts hold', () => {
    fc.assert(
      fc.property(definition, (one: Definition) => {
        const printed = printFile(fileOf(one, id => names.get(id)))
        const read = definitionOf(readFile(printed) as Definition, name => ids.get(name))
        expect(read).toEqual(one)
        expect(readFile(JSON.stringify(one))).toEqual(one)
      }),
    )
  })

  test.each([
    ['what is no YAML', 'name: [a', /cannot be read from line 1/],
    ['a key that is there twice', 'name: a\nname: b', /cannot be read from line 2/],
    ['a part that refers to another', 'a: &x [1]\nb: *x', /refers to parts of itself/],
  ])('%s is told with its place', (_, text, message) => {
    expect(() => readFile(text)).toThrow(message)
  })

  test('a connection that is not there is named', () => {
    const file = { from: 'Site: North #1', to: 'elsewhere' } as Definition
    expect(() => definitionOf(file, name => ids.get(name))).toThrow('to: there is no connection “elsewhere”.')
  })
})

test('a plan as Markdown keeps names from marking up, and fences statements that hold fences', () => {
  const note = { level: 'warning', message: '| *b*\n# x', remedy: '<b>', section: 'to' } as const
  const markdown = planMarkdown('a_b', {
    digest: '',
    lanes: [],
    steps: [],
    notes: [note],
    rows: 3,
    bytes: 0,
    statements: ['CREATE TABLE "```"'],
    sourceStatements: [],
    captureNote: '',
    estimateSeconds: null,
  })
  expect(markdown).toContain('# Plan of a\\_b')
  expect(markdown).toContain('- **warning** \\| \\*b\\* \\# x \\<b\\>')
  expect(markdown).toContain('````sql\nCREATE TABLE "```";\n````')
})
