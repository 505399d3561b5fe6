/** Long text that was edited on both sides, merged by line as source code is (diff3: https://www.cis.upenn.edu/~bcpierce/papers/diff3-short.pdf). */
import { diff3Merge, diffPatch, patch } from 'node-diff3'
import type { Value } from './form.ts'
import type { Side } from './rule.ts'

/** Longer texts would take long to compare. */
const MOST_LINES = 5_000

/** undefined: both have changed the same lines, differently. Each side keeps its own form of the lines that nobody has changed. */
export function mergeLines(
  base: Record<Side, Value>,
  now: Record<Side, Value>,
): Record<Side, string> | undefined {
  const was = { a: partsOf(base.a), b: partsOf(base.b) }
  const is = { a: partsOf(now.a), b: partsOf(now.b) }
  const lines = { was: { a: was.a.lines, b: was.b.lines }, is: { a: is.a.lines, b: is.b.lines } }
  // What a side has made of a line stands where the line stood.
  if (lines.was.a.length !== lines.was.b.length) return undefined
  if ([lines.is.a, lines.is.b].some(all => all.length > MOST_LINES)) return undefined
  const known = new Interned()
  const theirs = known.carried(lines.was.b, lines.is.b, lines.was.a)
  const merged = known.merged(lines.is.a, lines.was.a, theirs)
  if (!merged) return undefined
  const ours = known.carried(lines.was.a, merged, lines.was.b)
  const ends = mergedEnds({ a: was.a.end, b: was.b.end }, { a: is.a.end, b: is.b.end })
  if (!ends) return undefined
  return {
    a: merged.join(betweenLines(now.a, base.a)) + ends.a,
    b: ours.join(betweenLines(now.b, base.b)) + ends.b,
  }
}

/** `end`: white space at the end, which is of no line. */
function partsOf(value: Value): { lines: string[]; end: string } {
  const text = value ?? ''
  const body = text.trimEnd()
  return { lines: body === '' ? [] : body.split(/\r?\n/), end: text.slice(body.length) }
}

/** undefined: both have changed what stands at the end, differently. */
function mergedEnds(was: Record<Side, string>, is: Record<Side, string>): Record<Side, string> | undefined {
  const changed = { a: is.a !== was.a, b: is.b !== was.b }
  if (changed.a && changed.b) return is.a === is.b ? is : undefined
  if (changed.a) return { a: is.a, b: is.a }
  return changed.b ? { a: is.b, b: is.b } : is
}

/** As the side has it. */
function betweenLines(...texts: Value[]): string {
  const [text] = texts.filter(one => one?.includes('\n'))
  return text?.includes('\r\n') ? '\r\n' : '\n'
}

/** Lines are compared by numbers: whatever they say, none is a name of anything. */
class Interned {
  private readonly numbers = new Map<string, number>()
  private readonly lines: string[] = []

  private in(lines: readonly string[]): number[] {
    return lines.map(line => {
      let number = this.numbers.get(line)
      if (number === undefined) {
        number = this.lines.push(line) - 1
        this.numbers.set(line, number)
      }
      return number
    })
  }

  private out(numbers: readonly number[]): string[] {
    return numbers.map(number => this.lines[number]!)
  }

  /** What has become of the lines of one side, of those of the other, which stand at the same places. */
  carried(was: readonly string[], is: readonly string[], others: readonly string[]): string[] {
    return this.out(patch(this.in(others), diffPatch(this.in(was), this.in(is))))
  }

  merged(a: readonly string[], base: readonly string[], b: readonly string[]): string[] | undefined {
    const merged: number[] = []
    for (const { ok, conflict } of diff3Merge(this.in(a), this.in(base), this.in(b))) {
      if (conflict) return undefined
      merged.push(...(ok ?? []))
    }
    return this.out(merged)
  }
}
