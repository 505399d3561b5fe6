import type { Connector } from './contract/session.ts'
import { apps } from './http/connector.ts'
import { bucket } from './bucket/connector.ts'
import { duckdb } from './duckdb/connector.ts'
import { folder } from './folder/connector.ts'
import { mariadb } from './mariadb/connector.ts'
import { postgres } from './postgres/connector.ts'

export const connectors: readonly Connector[] = [postgres, mariadb, duckdb, folder, bucket, ...apps]
