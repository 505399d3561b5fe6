/** Many cases side by side, each from a seed of its own; the first that differs is shrunk. */
import fc from 'fast-check'
import { differentialCase, type DifferentialCase } from './case.ts'
import type { Outcome } from './following.ts'
import { play } from './play.ts'
import type { TargetName } from './render.ts'
import { startSystems, type SourceName, type Systems } from './systems.ts'

export const TARGETS: readonly TargetName[] = ['duckdb', 'postgres', 'mariadb', 'folder', 'merged']

export interface DifferentialOptions {
  /** Lives that are played; each gives a case for each target. */
  lives: number
  seed: number
  sources: readonly SourceName[]
  targets: readonly TargetName[]
  atOnce: number
  /** How long a case that differs may be shrunk. */
  shrinkMs: number
  say(line: string): void
}

export interface DifferentialResult {
  cases: number
  different: number
  refused: number
  /** Statements that the sources carried out. */
  statements: number
}

/** The case of a seed: the same as fast-check's first one, so that it can be shrunk from there. */
function caseOf(seed: number): DifferentialCase {
  return fc.sample(differentialCase, { seed, numRuns: 1 })[0]!
}

export async function differential(options: DifferentialOptions): Promise<DifferentialResult> {
  const { lives, seed, sources, targets, atOnce, say } = options
  const systems = await startSystems(sources.includes('embedded'))
  const total: DifferentialResult = { cases: 0, different: 0, refused: 0, statements: 0 }
  const refusedBySource = new Map<string, number>()
  const reasons = new Map<string, number>()
  let next = 0
  const failed: { seed: number; source: SourceName; outcome: Outcome }[] = []
  const work = async () => {
    while (next < lives) {
      const number = next++
      const source = sources[number % sources.length]!
      const own = seed + number
      try {
        const { outcomes, told } = await play(caseOf(own), systems, source, targets)
        total.statements += told.done
        for (const [message, count] of told.refused) tally(refusedBySource, message, count)
        for (const outcome of outcomes) {
          total.cases++
          if (outcome.result === 'refused') {
            total.refused++
            tally(reasons, `${outcome.target}: ${outcome.detail.slice(0, 150)}`, 1)
          }
          if (outcome.result !== 'different') continue
          total.different++
          failed.push({ seed: own, source, outcome })
          say(`seed ${own}, ${source} → ${outcome.target}: ${outcome.detail}`)
        }
      } catch (error) {
        total.cases++
        total.different++
        say(`seed ${own}, ${source}: ${(error as Error).stack}`)
        failed.push({
          seed: own,
          source,
          outcome: { target: targets[0]!, result: 'different', detail: String(error) },
        })
      }
    }
  }
  try {
    await Promise.all(Array.from({ length: atOnce }, work))
    const first = failed[0]
    if (first && options.shrinkMs > 0) await shrink(first, systems, options)
  } finally {
    await systems.close()
  }
  const most = (counts: Map<string, number>, n: number) =>
    [...counts]
      .sort((a, b) => b[1] - a[1])
      .slice(0, n)
      .map(([what, count]) => `  ${count} × ${what}`)
  say(
    `${total.statements} statements carried out; what the sources refused most:\n${most(refusedBySource, 25).join('\n')}`,
  )
  if (reasons.size > 0) say(`refused:\n${most(reasons, 30).join('\n')}`)
  return total
}

function tally(counts: Map<string, number>, what: string, count: number): void {
  counts.set(what, (counts.get(what) ?? 0) + count)
}

/** Prints the smallest case found that still differs, as a script to repeat it with. */
async function shrink(
  { seed, source, outcome }: { seed: number; source: SourceName; outcome: Outcome },
  systems: Systems,
  { say, shrinkMs }: DifferentialOptions,
): Promise<void> {
  say(`shrinking seed ${seed} …`)
  let smallest: { script: string[]; detail: string } | undefined
  const property = fc.asyncProperty(differentialCase, async one => {
    const { outcomes, told } = await play(one, systems, source, [outcome.target])
    const different = outcomes.find(({ result }) => result === 'different')
    if (!different) return
    smallest = { script: told.script, detail: different.detail }
    throw new Error(different.detail)
  })
  const { failed } = await fc.check(property, {
    seed,
    numRuns: 1,
    interruptAfterTimeLimit: shrinkMs,
    markInterruptAsFailure: true,
  })
  if (!failed || !smallest) return say('it did not differ again')
  say(`-- ${source} → ${outcome.target}: ${smallest.detail}`)
  for (const sql of smallest.script) say(sql.length > 2000 ? `${sql.slice(0, 2000)} …` : `${sql};`)
}
