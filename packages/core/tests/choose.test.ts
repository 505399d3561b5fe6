import { describe, expect, test } from '@jest/globals'
import { chooser, chosenTables, decidedBy, withChosen, type Choice } from '@tide/core/definition/choose'
import { datasetId, type Dataset } from '@tide/core/records/dataset'
import fc from 'fast-check'

const dataset = (namespace: string, name: string, kind: Dataset['kind'] = 'table'): Dataset => ({
  namespace,
  name,
  kind,
  fields: [],
  key: [],
  rows: 0,
  rowsExact: true,
  bytes: 0,
})
const source = [
  dataset('nursery', 'beds'),
  dataset('nursery', 'tmp_scratch'),
  dataset('nursery', 'tmp_kept'),
  dataset('nursery', 'bed_view', 'view'),
  dataset('field', 'plots'),
]
const names = (choice: Choice) => chosenTables(choice, source).map(({ name }) => name)
const patterns: NonNullable<Choice['patterns']> = [
  { take: 'in', like: 'nursery.*' },
  { take: 'out', like: '*.tmp_*' },
  { take: 'in', like: '*.tmp_kept' },
]

describe('patterns', () => {
  test('the last that matches decides, and says so; views are left to the hand', () => {
    expect(names({ tables: [], patterns })).toEqual(['beds', 'tmp_kept'])
    expect(chooser({ tables: [], patterns })(source[1]!)).toEqual({
      takesPart: false,
      by: 'pattern',
      pattern: 1,
    })
    expect(decidedBy({ tables: [], patterns }, source)).toEqual([1, 1, 1])
  })

  test('the hand has the last word, and a ticked table that is gone stays in it, to be refused', () => {
    const gone = { namespace: 'nursery', name: 'gone' }
    const choice = { tables: [source[4]!, gone], without: [source[0]!], patterns }
    expect(names(choice)).toEqual(['plots', 'gone', 'tmp_kept'])
  })
})

test('ticking does what it says, whatever the patterns, and says by hand only what they do not say', () => {
  const some = fc.subarray(source)
  const anyPatterns = fc.array(
    fc.record({
      take: fc.constantFrom('in' as const, 'out' as const),
      like: fc.constantFrom('*', 'nursery.*', '*.tmp_*', '*.plots', 'no.such'),
    }),
    { maxLength: 4 },
  )
  fc.assert(
    fc.property(some, some, anyPatterns, some, fc.boolean(), (tables, without, patterns, touched, on) => {
      const before: Choice = { tables, without: without.filter(one => !tables.includes(one)), patterns }
      const after = withChosen(before, touched, on)
      const [was, is] = [chooser(before), chooser(after)]
      for (const table of source)
        expect(is(table).takesPart).toBe(touched.includes(table) ? on : was(table).takesPart)
      const byPatterns = chooser({ tables: [], patterns })
      for (const table of touched) {
        const said = [...after.tables, ...(after.without ?? [])].some(
          one => datasetId(one) === datasetId(table),
        )
        expect(said).toBe(byPatterns(table).takesPart !== on)
      }
    }),
  )
})
