/**
 * `npm run differential -- --cases N --seed S [--source …] [--target …] [--at-once N] [--shrink SECONDS]`. The last line is
 * `cases N, different 0, refused R`.
 */
import { parseArgs } from 'node:util'
import { differential, TARGETS } from './run.ts'
import { SOURCES, type SourceName } from './systems.ts'
import type { TargetName } from './render.ts'

const { values } = parseArgs({
  options: {
    cases: { type: 'string', default: '60' },
    seed: { type: 'string', default: String(Date.now() % 1_000_000_000) },
    source: { type: 'string', multiple: true },
    target: { type: 'string', multiple: true },
    'at-once': { type: 'string', default: '4' },
    shrink: { type: 'string', default: '120' },
  },
})
const say = (line: string) => process.stdout.write(`${line}\n`)

function chosen<T extends string>(
  what: string,
  all: readonly T[],
  names: string[] | undefined,
): readonly T[] {
  const unknown = names?.find(name => !all.includes(name as T))
  if (unknown !== undefined) {
    process.stderr.write(`There is no ${what} ${unknown}; there are ${all.join(', ')}.\n`)
    process.exit(1)
  }
  return (names as T[] | undefined) ?? all
}

const targets = chosen<TargetName>('target', TARGETS, values.target)
const sources = chosen<SourceName>('source', SOURCES, values.source)
const seed = Number(values.seed)
say(`seed ${seed}`)
const { cases, different, refused } = await differential({
  lives: Math.ceil(Number(values.cases) / targets.length),
  seed,
  sources,
  targets,
  atOnce: Number(values['at-once']),
  shrinkMs: Number(values.shrink) * 1000,
  say,
})
say(`cases ${cases}, different ${different}, refused ${refused}`)
process.exit(different > 0 ? 1 : 0)
