/** Whether the target itself says how each lane stands, once. */
import { statusTableNames } from '@tide/core/plan/status'
import { printName } from '@tide/core/records/dataset'
import { identOf, targetRows } from './compare.ts'
import { STATUS, type Following } from './following.ts'
import type { Systems } from './systems.ts'

/** What is not so, in words; nothing when all is. */
export async function statusAgrees(
  systems: Systems,
  { target, plan }: Following,
  folder: string,
): Promise<string> {
  const ident = identOf(target)
  const [table] = statusTableNames(STATUS, plan.lanes)
  if (!table) return ''
  const from = `${ident(table.namespace)}.${ident(table.name)}`
  const told = await targetRows(
    systems,
    target,
    folder,
    `SELECT source_table, CAST(count(*) AS CHAR(9)) FROM ${from} GROUP BY source_table`,
  )
  const wrong = plan.lanes.filter(({ source }) => {
    const rows = told.filter(([name]) => name === printName(source))
    return rows.length !== 1 || Number(rows[0]![1]) !== 1
  })
  if (wrong.length === 0 && told.length === plan.lanes.length) return ''
  return `the target does not say how each lane stands, once: ${JSON.stringify(told)} of ${plan.lanes.map(({ source }) => printName(source)).join(', ')}`
}
