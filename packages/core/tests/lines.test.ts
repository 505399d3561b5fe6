/** Text that both sides have edited: what each has done to its own lines is in what both have then. */
import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import { mergeLines } from '../src/merge/lines.ts'

const line = fc.constantFrom('one', 'two', ' three', '', 'constructor', '__proto__', 'x')
const text = fc.array(line, { maxLength: 8 }).map(all => all.join('\n'))
const both = (value: string) => ({ a: value, b: value })

test('the order of the sides makes no difference; what one side alone has done is done; a second time nothing comes of it', () => {
  fc.assert(
    fc.property(text, text, text, (base, a, b) => {
      const merged = mergeLines(both(base), { a, b })
      const turned = mergeLines(both(base), { a: b, b: a })
      expect(turned).toEqual(merged)
      if (!merged) return
      expect(merged.a).toBe(merged.b)
      expect(mergeLines(both(base), { a: merged.a, b: base })).toEqual(merged)
      expect(mergeLines(merged, merged)).toEqual(merged)
    }),
    { numRuns: 2000 },
  )
  fc.assert(
    fc.property(text, text, (base, then) => {
      expect(mergeLines(both(base), { a: then, b: base })).toEqual(both(then))
      expect(mergeLines(both(base), { a: then, b: then })).toEqual(both(then))
    }),
  )
})

/** Each line is another, so that it is plain who has changed which. */
const edits = fc.array(
  fc.record({ by: fc.constantFrom('a', 'b', 'nobody'), does: fc.constantFrom('change', 'remove', 'insert') }),
  { minLength: 1, maxLength: 12 },
)

test('edits of lines that do not touch each other are all there, in their places', () => {
  fc.assert(
    fc.property(edits, all => {
      const [base, wanted]: string[][] = [[], []]
      const now: Record<string, string[]> = { a: [], b: [] }
      for (const [i, { by, does }] of all.entries()) {
        // Lines that nobody touches stand between.
        const [was, calm] = [`line ${i}`, `calm ${i}`]
        const becomes =
          by === 'nobody'
            ? [was]
            : does === 'change'
              ? [`${was} by ${by}`]
              : does === 'remove'
                ? []
                : [was, `more ${i}`]
        base!.push(was, calm)
        wanted!.push(...becomes, calm)
        for (const side of ['a', 'b']) now[side]!.push(...(side === by ? becomes : [was]), calm)
      }
      const merged = mergeLines(both(base!.join('\n')), { a: now.a!.join('\n'), b: now.b!.join('\n') })
      expect(merged).toEqual(both(wanted!.join('\n')))
      // Each side ends its lines in its own way.
      const dos = (lines: string[]) => `${lines.join('\r\n')}\r\n`
      const ends = { a: base!.join('\n'), b: dos(base!) }
      expect(mergeLines(ends, { a: now.a!.join('\n'), b: dos(now.b!) })).toEqual({
        a: wanted!.join('\n'),
        b: wanted!.length > 1 || now.b!.length > 1 ? dos(wanted!) : expect.anything(),
      })
    }),
    { numRuns: 500 },
  )
})

test('lines that both have changed are for a person', () => {
  expect(mergeLines(both('a\nb'), { a: 'a\nx', b: 'a\ny' })).toBeUndefined()
  expect(mergeLines(both('a\nb\nc'), { a: 'a\nc', b: 'a\nb 2\nc' })).toBeUndefined()
  expect(mergeLines(both('a'), { a: '', b: 'a\nb' })).toBeUndefined()
  expect(mergeLines({ a: 'a\nb', b: 'a b' }, { a: 'a\nx', b: 'a b c' })).toBeUndefined()
  expect(mergeLines({ a: null, b: '' }, { a: null, b: 'x' })).toEqual(both('x'))
})
