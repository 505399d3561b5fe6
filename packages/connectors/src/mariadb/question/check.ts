/** Whether the account that questions go by could do more than read, and how to make one that cannot. */
import type { CheckItem } from '@tide/core/api/browse'
import { messageOf } from '@tide/core/failure'
import { readingAccount } from '../../server-settings.ts'
import { withSession } from '../client.ts'
import type { MariadbConfig } from '../config.ts'
import { rightsIn } from '../grants.ts'
import { ident } from '../sql.ts'

const ONLY_READS = new Set([
  'USAGE',
  'SELECT',
  'SHOW VIEW',
  'SHOW DATABASES',
  'PROCESS',
  'BINLOG MONITOR',
  'REPLICATION CLIENT',
  'SLAVE MONITOR',
])

export async function checkReading(config: MariadbConfig): Promise<CheckItem> {
  const what = 'Reading account'
  const account = readingAccount(config)
  try {
    const grants = await withSession(account, session => session.arrays('SHOW GRANTS'))
    const could = new Set(
      grants
        .flatMap(([line]) => rightsIn(line!).map(({ right }) => right))
        .filter(right => !ONLY_READS.has(right)),
    )
    if (could.size === 0)
      return { what, result: 'ok', found: `queries go by ${account.user}, who can only read` }
    return {
      what,
      result: 'warning',
      found: `Queries go by ${account.user}, who could do more than read: ${[...could].slice(0, 8).join(', ')}. Only what is known to be a question is run, in read-only transactions.`,
      remedy:
        'Let an administrator make an account that can only read, and enter it under “Reading account”.',
      paste: [
        `CREATE USER 'constant_tide_reading'@'%' IDENTIFIED BY 'choose one'`,
        `  WITH MAX_USER_CONNECTIONS 5 MAX_STATEMENT_TIME 30;`,
        `-- for each database to be read:`,
        `GRANT SELECT ON ${ident(config.database)}.* TO 'constant_tide_reading'@'%';`,
      ].join('\n'),
    }
  } catch (error) {
    const found = `${account.user} cannot sign in: ${messageOf(error)}`
    return { what, result: 'failed', found, remedy: 'Correct the reading account, or leave it empty.' }
  }
}
