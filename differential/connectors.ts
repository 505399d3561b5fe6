/** Connections as the application opens them. */
import { duckdb } from '../packages/connectors/src/duckdb/connector.ts'
import { folder as filesFolder } from '../packages/connectors/src/folder/connector.ts'
import { mariadb } from '../packages/connectors/src/mariadb/connector.ts'
import { postgres } from '../packages/connectors/src/postgres/connector.ts'
import type { Session } from '../packages/connectors/src/contract/session.ts'
import { join } from 'node:path'
import type { TargetName } from './render.ts'
import { CURSOR, TARGET_DATABASE, type SourceName, type Systems } from './systems.ts'

export function openSource(
  { postgres: server, mariadb: other, embedded }: Systems,
  name: SourceName,
): Promise<Session> {
  switch (name) {
    case 'mariadb':
      return mariadb.open({ ...other.config })
    case 'embedded':
      return postgres.open({ ...embedded!, method: 'triggers' })
    case 'triggers':
      return postgres.open({ ...server.config, method: 'triggers' })
    case 'cursor':
      return postgres.open({
        ...server.config,
        method: 'cursor',
        cursorColumn: CURSOR,
        cursorEverySeconds: 1,
        cursorSettleSeconds: 0,
      })
    case 'postgres':
      return postgres.open({ ...server.config, method: 'log' })
  }
}

/** `folder`: where the warehouse file is. */
export function openTarget(systems: Systems, kind: TargetName, folder: string): Promise<Session> {
  switch (kind) {
    case 'duckdb':
      return duckdb.open({ path: join(folder, 'warehouse.duckdb') })
    case 'folder':
    case 'merged':
      return filesFolder.open({ path: join(folder, kind === 'merged' ? 'merged' : 'lake') })
    case 'mariadb':
      return mariadb.open({ ...systems.mariadb.config })
    case 'postgres':
      return postgres.open({ ...systems.postgres.config, database: TARGET_DATABASE, method: 'log' })
  }
}
