/** Values that are the same for the same number, so that a case can be told by numbers and shrunk by them. */
import { Random } from '../soak/random.ts'

/** A generator of its own for each number; neighbours have nothing in common. */
export function chance(n: number): Random {
  const random = new Random(Math.imul(n ^ 0x9e3779b9, 0x85ebca6b))
  random.next()
  return random
}

/** Texts that have been trouble somewhere: separators, quotes, escapes, marks, and every class of code point. */
export const HOSTILE = [
  '',
  'a',
  'A',
  'a ',
  ' a',
  'ä',
  'Ä',
  'ß',
  'ss',
  '\\.',
  '\\N',
  '\\',
  '\\\\',
  'NULL',
  'null',
  '""',
  '"',
  "'",
  "''",
  '`',
  ',',
  ';',
  '\t',
  '\n',
  '\r',
  '\r\n',
  'a,"b"\nc',
  '{',
  '}',
  '{}',
  '{NULL,"a"}',
  '[1]',
  '[0:1]={a,b}',
  '(1,2)',
  '%',
  '$1',
  ':x',
  '?',
  '--',
  '/*',
  '*/',
  '\u0001',
  '\u001f',
  '\u007f',
  '\u0080',
  '\u00a0',
  '\u200b',
  '\u202e',
  '\ufeff',
  '\ufeffa',
  '\uffff',
  '\u{10000}',
  '\u{1f331}',
  '\u{10ffff}',
  'e\u0301',
  'é',
  'İ',
  'ı',
  '0',
  '-0',
  '1e5',
  'NaN',
  'true',
  't',
  '2026-11-23',
  '0000-00-00',
]

/** A text of at most `most` characters; mostly short, now and then from edges, rarely very long. */
export function text(n: number, most: number): string {
  if (n < HOSTILE.length) return cut(HOSTILE[n]!, most)
  const random = chance(n)
  const kind = random.below(40)
  if (kind < 16) return cut(random.pick(HOSTILE), most)
  if (kind < 24) return cut(random.pick(HOSTILE) + random.pick(HOSTILE) + random.pick(HOSTILE), most)
  // Large enough to be kept apart from its row, and random enough not to be packed.
  if (kind === 24) return random.hex(Math.min(most, 4000 + random.below(4000)))
  if (kind === 25 && most > 100_000 && random.chance(0.1))
    return random.pick(HOSTILE).padEnd(1_000_000, `${random.hex(7)}"\n`)
  const length = Math.min(most, 1 + random.below(12))
  return cut(Array.from({ length }, () => String.fromCodePoint(codePoint(random))).join(''), most)
}

function codePoint(random: Random): number {
  const [from, to] = random.pick([
    [0x20, 0x7e],
    [0x61, 0x7a],
    [0x80, 0x7ff],
    [0x800, 0xd7ff],
    [0xe000, 0xfffd],
    [0x10000, 0x10ffff],
  ] as const)
  return from + random.below(to - from + 1)
}

/** The first characters, never half of one. */
export function cut(value: string, most: number): string {
  return [...value].slice(0, most).join('')
}

export function digits(random: Random, count: number): string {
  return Array.from({ length: count }, () => random.below(10)).join('')
}
