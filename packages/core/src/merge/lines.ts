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
  const theirs = carried(lines.was.b, lines.is.b, lines.was.a)
  const both = merged(lines.is.a, lines.was.a, theirs)
  if (!both) return undefined
  const ours = carried(lines.was.a, both, lines.was.b)
  const ends = mergedEnds({ a: was.a.end, b: was.b.end }, { a: is.a.end, b: is.b.end })
  if (!ends) return undefined
  return {
    a: both.join(betweenLines(now.a, base.a)) + ends.a,
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

/** What has become of the lines of one side, of those of the other, which stand at the same places. */
function carried(was: string[], is: string[], others: string[]): string[] {
  return patch(others, diffPatch(was, is))
}

function merged(a: string[], base: string[], b: string[]): string[] | undefined {
  const lines: string[] = []
  for (const { ok, conflict } of diff3Merge(a, base, b)) {
    if (conflict) return undefined
    lines.push(...(ok ?? []))
  }
  return lines
}
