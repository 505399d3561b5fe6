/** What `SHOW GRANTS` says, https://mariadb.com/kb/en/grant/. */
import type { TableRights } from '@tide/core/app/table-object'
import type { DatasetName } from '@tide/core/records/dataset'
import type { Session } from './client.ts'

/** `database` and `table`: quoted, or `*`. `rights`: those on the whole of what is named, in capitals; what only some columns have is not among them. */
interface Grant {
  rights: string[]
  database: string
  table: string
}

const QUOTED = '`(?:[^`]|``)*`'
const LISTED = `^GRANT ((?:[^\`]|${QUOTED})+?) ON `
const GRANT = new RegExp(`${LISTED}(\\*|${QUOTED})\\.(\\*|${QUOTED}) TO `, 's')
/** What says nothing of tables: a role that is given (what it may is on lines of its own), routines, and standing in for others. */
const OF_NO_TABLE = new RegExp(
  `^(GRANT (${QUOTED}|\\S+) TO |GRANT PROXY ON |${LISTED.slice(1)}(PROCEDURE|FUNCTION|PACKAGE|PACKAGE BODY) |SET DEFAULT ROLE )`,
  's',
)

/** What the session may do, by all roles that it has; undefined: not all that the server says was understood. */
export async function grantsOf(session: Session): Promise<Grant[] | undefined> {
  const lines = (await session.arrays('SHOW GRANTS')).map(([line]) => line!)
  const grants = lines.filter(line => !OF_NO_TABLE.test(line)).map(grantOf)
  return grants.every(one => one !== undefined) ? grants : undefined
}

function grantOf(line: string): Grant | undefined {
  const [, listed, database, table] = GRANT.exec(line) ?? []
  if (listed === undefined) return undefined
  return {
    rights: rightsIn(line).flatMap(({ right, isWhole }) => (isWhole ? [right] : [])),
    database: database!,
    table: table!,
  }
}

/** What an account with these grants may do with a table. */
export function tableRights(grants: readonly Grant[], name: DatasetName): TableRights {
  const ofTable = grants.filter(grant => isOf(grant, name)).flatMap(({ rights }) => rights)
  const may = (right: string) => ofTable.includes(right) || ofTable.includes('ALL PRIVILEGES')
  return { insert: may('INSERT'), update: may('UPDATE'), delete: may('DELETE') }
}

/** Of `GRANT SELECT (a, b), INSERT ON …` the right to insert, and that to select, which is not of the whole. In capitals. */
export function rightsIn(line: string): { right: string; isWhole: boolean }[] {
  const listed = new RegExp(LISTED, 's').exec(line)?.[1] ?? ''
  return (
    listed
      // No name of a column is left to be taken for a right.
      .replace(new RegExp(` ?\\((?:[^\`)]|${QUOTED})*\\)`, 'g'), '()')
      .split(',')
      .map(one => one.trim().toUpperCase())
      .filter(one => one !== '')
      .map(one => ({ right: one.replace('()', ''), isWhole: !one.endsWith('()') }))
  )
}

/** A database of which no table is named is a pattern, of `_` and `%`. */
function isOf({ database, table }: Grant, name: DatasetName): boolean {
  if (table !== '*') return named(database) === name.namespace && named(table) === name.name
  if (database === '*') return true
  const pattern = named(database).replace(/\\?[^]/g, one =>
    one === '_'
      ? '.'
      : one === '%'
        ? '.*'
        : one.replace(/^\\(?=[_%])/, '').replace(/[\\^$.*+?()[\]{}|]/g, '\\$&'),
  )
  return new RegExp(`^${pattern}$`, 's').test(name.namespace)
}

function named(quoted: string): string {
  return quoted.slice(1, -1).replaceAll('``', '`')
}
