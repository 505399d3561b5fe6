import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import { completionsAt, CONNECTION, type FileSchema } from '@tide/core/definition/complete'
import { definitionSchemas } from '@tide/core/definition/definition'

const { replicate } = definitionSchemas
const NAMED = { type: 'string', title: CONNECTION }
const schema = JSON.parse(
  JSON.stringify({ ...replicate, properties: { ...replicate.properties, from: NAMED, to: NAMED } }),
) as FileSchema

/** What is offered where the bar stands. */
function offered(text: string): string[] {
  const at = text.indexOf('|')
  const found = completionsAt(text.replace('|', ''), at, schema, ['Alderbank', 'growers_warehouse'])
  return found?.options.map(({ text }) => text) ?? []
}

describe('what can stand in a file', () => {
  test.each<[string, string[]]>([
    ['version: 2\nna|', ['name', 'names']],
    ['version: 2\nname: Beds\nna|', ['names']],
    ['version: 2\nto: g|\n', ['growers_warehouse']],
    ['does: |', ['copy', 'follow', 'structure', 'archive']],
    ['does: co|\nname: x', ['copy']],
    ['patterns:\n  - { ta|', ['take']],
    ['patterns:\n  - { take: |, like: x }', ['in', 'out']],
    ['patterns:\n- take: in\n  li|\n', ['like']],
    ['there: { rows: e|', ['empty']],
    ['speed:\n  wa|', ['waits']],
    ['scopes: [{ like: "*", where: { any: [{ column: a, op: st| }] } }]', ['starts with']],
    ['name: na|', []],
    ['does: copy|', []],
    ['nothing:\n  na|', []],
  ])('%j', (text, options) => {
    expect(offered(text)).toEqual(options)
  })

  test('a rule is begun by one of its fields', () => {
    expect(offered('lanes:\n  - { like: "*", does: |')).toEqual(
      ['rows', 'structure', 'deletes', 'history', 'key'].map(name => `{ ${name}: `),
    )
  })

  test('says from where on it replaces, and what a field is', () => {
    const text = 'version: 2\ntargetS'
    expect(completionsAt(text, text.length, schema, [])).toEqual({
      from: 11,
      options: [{ text: 'targetSchema', what: 'field', says: 'Schema at the target' }],
    })
  })

  test('never fails, whatever stands there', () => {
    const piece = fc.constantFrom(
      'name',
      ': ',
      '\n',
      '  ',
      '- ',
      '{',
      '}',
      '[',
      ']',
      '"',
      '#',
      '&a',
      '*a',
      '|',
      '?',
      'scopes',
      'x',
    )
    fc.assert(
      fc.property(fc.array(piece, { maxLength: 25 }), fc.nat(80), (pieces, at) => {
        const text = pieces.join('')
        const place = Math.min(at, text.length)
        const found = completionsAt(text, place, schema, ['one'])
        if (found) expect(found.from).toBeLessThanOrEqual(place)
      }),
      { numRuns: 500 },
    )
  })
})
