/** Records that are almost the same by a rule: but for accents, signs and one letter. They are shown to a person, and never taken. */
import type { Side } from '../merge/rule.ts'
import { loosened } from './alike.ts'
import type { PairingRecord, PairingRule } from './rule.ts'

export interface Near {
  rule: number
  a: string
  b: string
}

/** So many are enough for a person. */
const MOST = 1_000
/** One letter of a short word is too much of it. */
const SHORTEST = 5
/** Whatever so many records have almost the same says nothing. */
const CROWD = 20

export function nearOf(
  records: Record<Side, readonly PairingRecord[]>,
  rules: readonly PairingRule[],
): Near[] {
  const found: Near[] = []
  const seen = new Set<string>()
  for (const [rule, { fields }] of rules.entries()) {
    const places = new Map<string, { a: string[]; b: string[] }>()
    for (const side of ['a', 'b'] as const)
      for (const record of records[side]) {
        const parts = fields.map(field => loosened(record.fieldOf(field[side])))
        if (fields.length === 0 || parts.includes(null)) continue
        for (const key of almost(parts.join(' '))) {
          let place = places.get(key)
          if (!place) places.set(key, (place = { a: [], b: [] }))
          place[side].push(record.id)
        }
      }
    for (const { a, b } of places.values()) {
      if (a.length * b.length === 0 || a.length > CROWD || b.length > CROWD) continue
      for (const one of a)
        for (const two of b) {
          const pair = JSON.stringify([one, two])
          if (seen.has(pair)) continue
          seen.add(pair)
          found.push({ rule, a: one, b: two })
        }
    }
  }
  const order = ({ rule, a, b }: Near) => `${rule} ${JSON.stringify([a, b])}`
  return found.sort((x, y) => (order(x) < order(y) ? -1 : 1)).slice(0, MOST)
}

/** The text, and as it is without each of its letters: two that differ in one letter share one of these. */
function almost(text: string): Set<string> {
  const texts = new Set([text])
  if (text.length >= SHORTEST)
    for (let i = 0; i < text.length; i++) texts.add(text.slice(0, i) + text.slice(i + 1))
  return texts
}
