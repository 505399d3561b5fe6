/** Rules proposed for 100,000 names and every name made by them, against the same texts made by the plainest means. */
import anyAscii from 'any-ascii'
import { Namer } from '@tide/core/naming/namer'
import { namesOf } from '@tide/core/naming/names'
import { proposeRules } from '@tide/core/naming/propose'
import type { Dataset } from '@tide/core/records/dataset'
import { say } from './bed.ts'

const TABLES = 2_000
const COLUMNS = 49
const ROUNDS = 5

const WORDS = ['Plot', 'Höhe', 'bed / row', 'count', 'Größe (cm)', '2nd', 'moisture', 'x'.repeat(80)]
const word = (n: number) => `${WORDS[n % WORDS.length]!} ${n}`
const datasets = Array.from({ length: TABLES }, (_, t): Dataset => ({
  namespace: `Field Notes ${t % 20}`,
  name: word(t),
  kind: 'table',
  fields: Array.from({ length: COLUMNS }, (_, c) => ({
    name: word(t + c * 3),
    type: { kind: 'utf8' },
    nativeType: 'text',
    nullable: true,
  })),
  key: [],
  rows: 0,
  rowsExact: true,
  bytes: 0,
}))
const target = {
  naming: { fold: 'upper', allowed: 'word', maxLength: 63 } as const,
  nameKey: (name: string) => name.toLowerCase(),
}

function ours(): number {
  const began = performance.now()
  const rules = proposeRules(datasets, [], '', target)
  const names = namesOf(datasets, new Namer(rules, target.naming, ''), target)
  const seconds = (performance.now() - began) / 1000
  const odd = names.filter(({ refused, meets }) => refused ?? meets).length
  if (odd > 0) throw new Error(`${odd} names do not fit`)
  say(`ours ${seconds.toFixed(3)} s: ${names.length} names, ${rules.length} rules`)
  return seconds
}

function plainest(): number {
  const began = performance.now()
  const keys = new Set<string>()
  for (const { namespace, name, fields } of datasets) {
    for (const one of [name, ...fields.map(field => field.name)]) {
      const made = anyAscii(one)
        .replace(/[^A-Za-z0-9_]+/g, '_')
        .replace(/^([0-9])/, '_$1')
        .toUpperCase()
      keys.add(`${namespace}\n${made.slice(0, 63).toLowerCase()}`)
    }
  }
  const seconds = (performance.now() - began) / 1000
  say(`plainest ${seconds.toFixed(3)} s: ${keys.size} different`)
  return seconds
}

const [mine, plain] = [Infinity, Infinity].map((_, i) =>
  Math.min(...Array.from({ length: ROUNDS }, () => (i === 0 ? ours() : plainest()))),
) as [number, number]
say(`names: ratio ${(plain / mine).toFixed(2)} (ours ${mine.toFixed(3)} s, limit ${plain.toFixed(3)} s)`)
