/** What following MariaDB's log needs, looked at on the live system; each thing missing with what to type. */
import type { CheckItem } from '@tide/core/api/browse'
import { Session } from './client.ts'
import type { MariadbConfig } from './config.ts'
import { serverAddress } from '../server-settings.ts'
import { mariadbFailure } from './errors.ts'
import { checkReading } from './question/check.ts'
import { ident, literal } from './sql.ts'

/** Retention under which a night's absence would lose the log. */
const SHORT_RETENTION_S = 24 * 3600

export async function* checkMariadb(config: MariadbConfig): AsyncGenerator<CheckItem> {
  const where = serverAddress(config)
  let session: Session
  try {
    session = await Session.open(config, { database: config.database })
  } catch (error) {
    const failure = mariadbFailure(error, where)
    yield { what: 'Reach and sign in', result: 'failed', found: failure.message, remedy: failure.remedy }
    return
  }
  try {
    yield* checks(session, config, where)
  } finally {
    await session.close()
  }
}

async function* checks(session: Session, config: MariadbConfig, where: string): AsyncGenerator<CheckItem> {
  yield { what: 'Reach and sign in', result: 'ok', found: `${where} as ${config.user}` }
  yield { ...(await checkReading(config)), for: 'asking' }
  for await (const item of followingChecks(session, config)) yield { ...item, for: 'following' }
}

async function* followingChecks(session: Session, config: MariadbConfig): AsyncGenerator<CheckItem> {
  const [[version]] = (await session.arrays('SELECT version()')) as [[string]]
  yield /mariadb/i.test(version)
    ? { what: 'Version', result: 'ok', found: version }
    : {
        what: 'Version',
        result: 'failed',
        found: `${version} is not MariaDB.`,
        remedy: 'Only MariaDB, from 10.5 on, has been tried.',
      }
  const [[readable]] = (await session.arrays(
    `SELECT count(*) FROM information_schema.tables WHERE table_type = 'BASE TABLE'
        AND table_schema NOT IN ('mysql', 'information_schema', 'performance_schema', 'sys')`,
  )) as [[string]]
  yield Number(readable) > 0
    ? { what: 'Read tables', result: 'ok', found: `${readable} tables can be read` }
    : {
        what: 'Read tables',
        result: 'warning',
        found: 'No table can be read, or there is none yet.',
        remedy: 'Grant it for each database to be read:',
        paste: `GRANT SELECT ON ${ident(config.database)}.* TO ${literal(config.user)}@'%';`,
      }
  const variables = new Map(
    (await session.arrays(
      `SHOW GLOBAL VARIABLES WHERE variable_name IN ('log_bin', 'binlog_format', 'binlog_row_metadata', 'binlog_row_image',
         'log_bin_compress', 'server_id', 'binlog_expire_logs_seconds', 'local_infile')`,
    )) as [string, string][],
  )
  yield setting(
    'Binary log',
    variables.get('log_bin') === 'ON',
    'log_bin is on',
    'The server keeps no binary log.',
    {
      remedy: 'Put it into the server’s configuration and restart it:',
      paste: '[mariadb]\nlog_bin\nbinlog_format = ROW\nbinlog_row_metadata = FULL\nserver_id = 1',
    },
  )
  for (const [name, wanted, why] of [
    ['binlog_format', 'ROW', 'statements do not say which rows they change'],
    ['binlog_row_metadata', 'FULL', 'without it the log does not name columns, signs and labels'],
    ['log_bin_compress', 'OFF', 'compressed events are not read'],
  ] as const) {
    const found = variables.get(name)
    yield setting(`Log: ${name}`, found === wanted, `${name} is ${found}`, `${name} is ${found}: ${why}.`, {
      remedy: 'Set it now, and in the server’s configuration; sessions that are open keep the old value.',
      paste: `SET GLOBAL ${name} = '${wanted}';`,
    })
  }
  const image = variables.get('binlog_row_image')
  yield image === 'FULL'
    ? { what: 'Row image', result: 'ok', found: 'binlog_row_image is FULL' }
    : {
        what: 'Row image',
        result: 'warning',
        found: `binlog_row_image is ${image}: what is not told is taken from the target’s row.`,
        remedy: 'FULL tells whole rows before and after, which history tables will need.',
        paste: `SET GLOBAL binlog_row_image = 'FULL';`,
      }
  yield setting(
    'Server id',
    variables.get('server_id') !== '0',
    `server_id is ${variables.get('server_id')}`,
    'server_id is 0: replicas are refused.',
    {
      remedy: 'Put a number into the server’s configuration and restart it:',
      paste: '[mariadb]\nserver_id = 1',
    },
  )
  const kept = Number(variables.get('binlog_expire_logs_seconds') ?? 0)
  yield kept === 0 || kept >= SHORT_RETENTION_S
    ? {
        what: 'Log retention',
        result: 'ok',
        found:
          kept === 0
            ? 'the log is kept until it is purged'
            : `the log is kept for ${Math.round(kept / 3600)} hours`,
      }
    : {
        what: 'Log retention',
        result: 'warning',
        found: `The log is kept for ${Math.round(kept / 3600)} hours only; whoever is away longer must copy anew.`,
        remedy: 'Keep it for some days:',
        paste: 'SET GLOBAL binlog_expire_logs_seconds = 259200;',
      }
  yield await mayReplicate(session, config)
  yield {
    what: 'Least rights',
    result: 'ok',
    found: 'A user of its own that can do no more than is needed here:',
    paste: [
      `CREATE USER 'constant_tide'@'%' IDENTIFIED BY 'choose one';`,
      `GRANT REPLICATION SLAVE, BINLOG MONITOR ON *.* TO 'constant_tide'@'%';`,
      `-- for each database to be read:`,
      `GRANT SELECT ON ${ident(config.database)}.* TO 'constant_tide'@'%';`,
    ].join('\n'),
  }
}

function setting(
  what: string,
  well: boolean,
  found: string,
  fault: string,
  help: { remedy: string; paste: string },
): CheckItem {
  return well ? { what, result: 'ok', found } : { what, result: 'failed', found: fault, ...help }
}

async function mayReplicate(session: Session, config: MariadbConfig): Promise<CheckItem> {
  const what = 'Right to replicate'
  const grants = (await session.arrays('SHOW GRANTS')).map(([line]) => line!).join('\n')
  const all = /GRANT ALL PRIVILEGES ON \*\.\*/i.test(grants)
  const missing = ['REPLICATION SLAVE', 'BINLOG MONITOR'].filter(
    right => !all && !new RegExp(`\\b${right}\\b`, 'i').test(grants) && !/GRANT SUPER/i.test(grants),
  )
  if (missing.length === 0) return { what, result: 'ok', found: `${config.user} may read the log` }
  return {
    what,
    result: 'failed',
    found: `${config.user} may not read the log: ${missing.join(' and ')} ${missing.length === 1 ? 'is' : 'are'} missing.`,
    remedy:
      'Let an administrator grant it. The user can then read all changes of this server, of every table.',
    paste: `GRANT ${missing.join(', ')} ON *.* TO ${literal(config.user)}@'%';`,
  }
}
