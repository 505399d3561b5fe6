import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import { parametersIn, withParameters, type Quoting } from '../src/definition/query-parameters.ts'

const since = { name: 'since', type: 'date' as const, preset: '2026-01-31' }
const fill = (sql: string, values: Record<string, string> = {}, quoting: Quoting = 'plain') =>
  withParameters(sql, [since, { name: 'n', type: 'number', preset: '-1' }], values, quoting)

test('what is open is filled with a literal of its type', () => {
  expect(fill('SELECT a - {n} FROM t WHERE d >= {since}')).toBe(
    "SELECT a - (-1) FROM t WHERE d >= DATE '2026-01-31'",
  )
  expect(fill('SELECT {n}', { n: '2.5e3' })).toBe('SELECT (2.5e3)')
  expect(() => fill('SELECT {other}')).toThrow('leaves {other} open')
  for (const n of ['1 OR 1=1', '', '0x1', '1;']) expect(() => fill('SELECT {n}', { n })).toThrow('a number')
  for (const day of ['2026-02-30', "2026-01-01'", '', '20260101'])
    expect(() => fill('SELECT {since}', { since: day })).toThrow('a date')
})

/** Whole pieces of SQL in which braces mean nothing. */
const CLOSED: Record<Quoting, string[]> = {
  plain: [
    `'{n}'`,
    `'it''s {n}'`,
    `'a\\'`,
    `E'it\\'s {n}'`,
    `"col {n}"`,
    `"a""{n}"`,
    '$$ {n} $$',
    '$x$ {n} $$ {n} $x$',
    '-- {n}\n',
    '/* {n} */',
    '{ n }',
    `{'n': 1}`,
    '{1}',
  ],
  backslashes: [
    `'{n}'`,
    `'it\\'s {n}'`,
    `'it''s {n}'`,
    `'\\\\'`,
    `"a\\"{n}"`,
    '`a``{n}`',
    '# {n}\n',
    '-- {n}\n',
    '/* {n} */',
    '{ n }',
  ],
}

test.each<Quoting>(['plain', 'backslashes'])('braces in texts, names and comments stay (%s)', quoting => {
  const piece = fc.oneof(
    fc.constantFrom(...CLOSED[quoting]).map(text => ({ text, open: false })),
    fc.constant({ text: '{n}', open: true }),
    fc.constantFrom(' ', ', ', ' a-1 ', ' (').map(text => ({ text, open: false })),
  )
  fc.assert(
    fc.property(fc.array(piece, { maxLength: 12 }), pieces => {
      // Pieces that touch could make others.
      const sql = pieces.map(({ text }) => text).join(' ')
      expect(parametersIn(sql, quoting)).toEqual(pieces.some(({ open }) => open) ? ['n'] : [])
      expect(fill(sql, {}, quoting)).toBe(pieces.map(({ text, open }) => (open ? '(-1)' : text)).join(' '))
    }),
  )
})
