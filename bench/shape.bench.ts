/** Rows of 8 columns through a mask, a scope and five expressions on one core, against the plainest way to do the same. */
import type { Lane, WrittenColumn } from '@tide/core/plan/lane'
import type { LogicalType } from '@tide/core/records/types'
import { csvLine } from '@tide/core/records/csv'
import { packRow } from '@tide/core/records/tuple'
import { copiedShaper } from '@tide/core/shape/copied'
import { laneShaper } from '@tide/core/shape/row'
import { createHmac } from 'node:crypto'
import { keyedHash } from '../packages/engine/src/keyed-hash.ts'
import { say } from './bed.ts'

const ROWS = 400_000
const CHUNK_ROWS = 1_000
const ROUNDS = 3

const TYPES: Record<string, LogicalType> = {
  at: { kind: 'timestamp', zoned: true },
  amount: { kind: 'decimal', precision: 12, scale: 2 },
  flag: { kind: 'bool' },
}
const EXPRESSIONS = {
  gross: 'amount * 1.2',
  shown: 'upper(trim(label))',
  month: 'startOf(at, "month")',
  host: 'replaceMatches(mail, "^[^@]*@", "")',
  size: 'flag && amount >= 500 ? "large" : "small"',
}

const reads = ['id', 'at', 'amount', 'ratio', 'flag', 'label', 'mail', 'day'].map(name => ({
  name,
  type: TYPES[name] ?? ({ kind: 'utf8' } as const),
  nativeType: 'text',
  nullable: false,
}))
const written = (name: string, value: WrittenColumn['value']): WrittenColumn => ({
  ...reads[0]!,
  name,
  value,
})
const lane: Lane = {
  source: { namespace: 's', name: 't' },
  target: { namespace: 'w', name: 't' },
  reads,
  identity: ['id'],
  writes: [
    ...reads.map(({ name }) =>
      written(
        name,
        name === 'mail'
          ? { from: 'masked', column: name, how: { mask: 'hash' } }
          : { from: 'column', column: name },
      ),
    ),
    ...Object.entries(EXPRESSIONS).map(([name, expression]) =>
      written(name, { from: 'computed', expression }),
    ),
  ],
  key: ['id'],
  scope: { column: 'amount', op: 'is at least', value: '10' },
  rows: ROWS,
  rowsExact: true,
  bytes: 0,
}
const KEY = Buffer.alloc(32, 7)
const SHAPING = { origin: '', hash: keyedHash(KEY) }
const NOW = '2026-11-20T10:00:00Z'

const rows = Array.from({ length: ROWS }, (_, n) => [
  String(n),
  '2026-11-20 10:00:00.123456+00',
  `${n % 1000}.25`,
  String(n / 7),
  n % 2 ? 't' : 'f',
  n % 5 === 0 ? `a "label", number ${n}` : `label ${n}`,
  `club${n}@example.org`,
  '2026-11-20',
])
const chunks: Buffer[] = []
for (let at = 0; at < ROWS; at += CHUNK_ROWS)
  chunks.push(
    Buffer.from(
      rows
        .slice(at, at + CHUNK_ROWS)
        .map(csvLine)
        .join(''),
    ),
  )
const packed = rows.map(row => packRow(row))

const rate = (began: number) => ROWS / ((performance.now() - began) / 1000)

function copying(): number {
  const shape = copiedShaper(lane, SHAPING)!
  const began = performance.now()
  for (const chunk of chunks) shape(chunk, { position: '0/10', landedAt: NOW })
  return rate(began)
}

function following(): number {
  const shaper = laneShaper(lane, SHAPING)
  const transaction = { id: 'x', start: '0/10', at: NOW, events: [] }
  const began = performance.now()
  packed.forEach((after, number) =>
    shaper.shape(
      {
        identity: [String(number)],
        after,
        from: undefined,
        before: undefined,
        images: undefined,
        untold: false,
        transaction,
        number,
        op: 'insert',
      },
      NOW,
    ),
  )
  return rate(began)
}

/** Every line as text, cut at each comma outside of quotes, and put together again; node's own HMAC. */
function plainest(): number {
  const began = performance.now()
  for (const chunk of chunks) {
    const out: string[] = []
    for (const line of chunk.toString().split('\n')) {
      if (line === '') continue
      const cells = line.match(/("(?:[^"]|"")*"|[^,]*)(?:,|$)/g)!.map(cell => cell.replace(/,$/, ''))
      if (Number(cells[2]) < 10) continue
      const label = cells[5]!.startsWith('"') ? cells[5]!.slice(1, -1).replaceAll('""', '"') : cells[5]!
      const shown = label.trim().toUpperCase()
      const at = new Date(cells[1]!.replace(' ', 'T').replace(/\+00$/, 'Z'))
      out.push(
        [
          ...cells.slice(0, 6),
          createHmac('sha256', KEY).update(cells[6]!).digest('hex'),
          cells[7]!,
          (Number(cells[2]) * 1.2).toFixed(2),
          /[",]/.test(shown) ? `"${shown.replaceAll('"', '""')}"` : shown,
          new Date(Date.UTC(at.getUTCFullYear(), at.getUTCMonth(), 1)).toISOString(),
          cells[6]!.replace(/^[^@]*@/, ''),
          cells[4] === 't' && Number(cells[2]) >= 500 ? 'large' : 'small',
        ].join(','),
      )
    }
    Buffer.from(out.join('\n'))
  }
  return rate(began)
}

const best = (run: () => number, what: string) => {
  const rates = Array.from({ length: ROUNDS }, run)
  say(`${what}: ${rates.map(one => Math.round(one).toLocaleString('en')).join(', ')} rows/s`)
  return Math.max(...rates)
}
const [copied, followed, plain] = [
  best(copying, 'copying'),
  best(following, 'following'),
  best(plainest, 'plainest'),
]
const least = Math.min(copied, followed)
say(
  `shape: ratio ${(least / plain).toFixed(2)} (ours ${Math.round(least).toLocaleString('en')} rows/s, limit ${Math.round(plain).toLocaleString('en')} rows/s)`,
)
