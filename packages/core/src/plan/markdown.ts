/** A plan as a document, for those who approve it. */
import type { PlanAnswer } from '../api/plans.ts'
import { printName } from '../records/dataset.ts'
import { printCondition } from '../scope/condition.ts'
import { printMask } from '../shape/mask.ts'
import { fatesSaid } from './change.ts'
import { hinders } from './note.ts'
import { madeOf, type WrittenColumn } from './lane.ts'

export function planMarkdown(
  name: string,
  { lanes, steps, notes, rows, statements, sourceStatements, change }: PlanAnswer,
): string {
  const created = steps.filter(({ step }) => step === 'create table').length
  const replaced = steps.filter(({ step }) => step === 'replace table').length
  const parts = [
    `# Plan of ${escaped(name || 'a pipeline')}`,
    [
      `- ${notes.some(hinders) ? `It cannot be ${change ? 'applied' : 'started'} as it is.` : `It can be ${change ? 'applied while the pipeline runs' : 'started'}.`}`,
      ...(change
        ? fatesSaid(change).map(said => `- ${said}.`)
        : [`- ${created} tables are created, ${replaced} are replaced.`]),
      `- ${lanes.every(lane => lane.rowsExact) ? '' : 'About '}${rows} rows are copied${lanes.some(({ scope }) => scope) ? ' at most' : ''}; then changes are followed.`,
    ].join('\n'),
  ]
  if (notes.length > 0) {
    const lines = notes.map(
      ({ level, message, remedy }) => `- **${level}** ${escaped(message)} ${escaped(remedy)}`,
    )
    parts.push('## To know', lines.join('\n'))
  }
  const told = lanes.filter((_, i) => change?.lanes[i]!.fate !== 'stays')
  for (const { source, target, reads, leftOut = [], writes, key, scope } of told) {
    parts.push(
      `## ${escaped(printName(source))} → ${escaped(printName(target))}`,
      [
        '| at the source | at the target | |',
        '|---|---|---|',
        ...writes.map(column => {
          const from = madeOf(column)
          const type = reads.find(({ name }) => name === from)?.nativeType ?? ''
          const said = [key.includes(column.name) ? 'key' : '', madeSaid(column), column.note ?? '']
          return `| ${escaped(from ?? '')} ${escaped(type)} | ${escaped(column.name)} ${escaped(column.nativeType)} | ${escaped(said.filter(Boolean).join('; '))} |`
        }),
        ...leftOut.map(name => `| ${escaped(name)} | | left out |`),
      ].join('\n'),
    )
    if (scope) parts.push(`Rows take part where ${escaped(printCondition(scope))}.`)
  }
  if (sourceStatements.length > 0) parts.push('## At the source', sql(sourceStatements))
  if (statements.length > 0) parts.push('## At the target', sql(statements))
  return `${parts.join('\n\n')}\n`
}

function madeSaid({ value }: WrittenColumn): string {
  switch (value.from) {
    case 'column':
      return ''
    case 'masked':
      return printMask(value.how)
    case 'retyped':
      return 'in this type'
    case 'cut':
      return `cut to ${value.bytes} bytes`
    case 'was cut':
      return `whether ${value.column} was cut`
    case 'constant':
      return `always ${value.value === null ? 'null' : `“${value.value}”`}`
    case 'computed':
      return `computed: ${value.expression}`
    case 'origin':
      return 'the origin’s tag'
    case 'metadata':
      return value.what
  }
}

function sql(statements: readonly string[]): string {
  const text = statements.map(statement => `${statement};`).join('\n')
  // A fence is longer than any that the text holds.
  const fence = '`'.repeat(Math.max(3, ...[...text.matchAll(/`+/g)].map(([ticks]) => ticks.length + 1)))
  return `${fence}sql\n${text}\n${fence}`
}

/** Names are other people's: nothing in them marks up. */
function escaped(text: string): string {
  return text.replace(/[\\`*_{}[\]<>#|~]/g, '\\$&').replace(/\s+/g, ' ')
}
