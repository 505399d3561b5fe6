/** Sets the demo world up through the same API that people use. */
import { call } from './api-call.ts'
import type { AppAccess } from './apps/start.ts'
import type { Site } from './site.ts'

/** A site that is up. */
export type DemoSite = Pick<Site, 'name' | 'access' | 'screen'>

export interface DemoPlace {
  server: string
  warehouse: string
  /** The folder of the lake. */
  lake: string
  bucket: BucketAccess
  apps: readonly AppAccess[]
}

/** How the stand-in bucket is reached, and where its screen is. */
export interface BucketAccess {
  config: Record<string, string>
  screen: string
}

interface Named {
  id: string
  name: string
}

/** Makes what the demo begins with, unless somebody has made connections already. */
export async function setUpDemo(
  sites: readonly DemoSite[],
  { server, warehouse, lake, bucket, apps }: DemoPlace,
): Promise<void> {
  const present = await call<Named[]>(server, 'GET', '/connections')
  if (present.length > 0) return
  const from: { connection: string; tag: string }[] = []
  for (const { name, access, screen } of sites) {
    const source = await call<Named>(server, 'POST', '/connections', {
      name,
      kind: 'postgres',
      config: { ...access, method: 'triggers', screen },
    })
    from.push({ connection: source.id, tag: name.toLowerCase() })
  }
  const target = await call<Named>(server, 'POST', '/connections', {
    name: 'growers_warehouse',
    kind: 'duckdb',
    config: { path: warehouse, fold: 'upper', allowed: 'word', maxLength: 63 },
  })
  const files = await call<Named>(server, 'POST', '/connections', {
    name: 'growers_lake',
    kind: 'folder',
    config: { path: lake },
  })
  const store = await call<Named>(server, 'POST', '/connections', {
    name: 'growers_bucket',
    kind: 'bucket',
    config: { ...bucket.config, screen: bucket.screen },
  })
  for (const { name, kind, config, screen } of apps)
    await call(server, 'POST', '/connections', { name, kind, config: { ...config, screen } })
  const readings = await call<Named>(server, 'POST', '/pipelines', {
    version: 2,
    shape: 'replicate',
    name: 'Readings as change files, every minute',
    from: from[0]!.connection,
    to: files.id,
    targetSchema: 'alderbank',
    tables: [{ namespace: 'nursery', name: 'readings' }],
    files: { format: 'parquet', folders: 'date={date}' },
    speed: { waits: 60 },
  })
  await call(server, 'POST', `/pipelines/${readings.id}/start`)
  const batches = await call<Named>(server, 'POST', '/pipelines', {
    version: 2,
    shape: 'replicate',
    name: 'Batches as a merged table',
    from: from[0]!.connection,
    to: files.id,
    targetSchema: 'alderbank',
    tables: [{ namespace: 'nursery', name: 'batches' }],
    files: { as: 'merged' },
    speed: { waits: 30 },
  })
  await call(server, 'POST', `/pipelines/${batches.id}/start`)
  const dispatches = await call<Named>(server, 'POST', '/pipelines', {
    version: 2,
    shape: 'replicate',
    does: 'copy',
    name: 'Dispatch with its lines, each night',
    from: from[0]!.connection,
    to: store.id,
    targetSchema: 'alderbank',
    tables: [],
    bundles: [
      {
        name: 'dispatch with its lines',
        main: { namespace: 'nursery', name: 'dispatches' },
        with: [
          { table: { namespace: 'nursery', name: 'dispatch_lines' }, on: [['dispatch_id', 'dispatch_id']] },
        ],
      },
    ],
    files: { as: 'merged' },
  })
  await call(server, 'POST', `/pipelines/${dispatches.id}/schedules`, {
    deed: 'start',
    cron: '30 2 * * *',
    zone: 'Europe/London',
    missed: 'leave',
    waitsFor: [],
    enabled: true,
  })
  // Set up, for people to rehearse and to start.
  await call(server, 'POST', '/pipelines', {
    version: 2,
    shape: 'replicate',
    does: 'archive',
    name: 'Readings older than two years',
    from: from[0]!.connection,
    to: files.id,
    targetSchema: 'archive',
    tables: [{ namespace: 'nursery', name: 'readings' }],
    scopes: [
      {
        like: 'nursery.readings',
        where: { column: 'read_at', op: 'is less than', value: 'now - 2 years' },
      },
    ],
    files: { as: 'merged' },
  })
  const pipeline = await call<Named>(server, 'POST', '/pipelines', {
    version: 2,
    shape: 'replicate',
    name: 'All sites to warehouse',
    from,
    originColumn: 'site',
    to: target.id,
    targetSchema: 'NURSERY',
    tables: [],
    patterns: [
      { take: 'in', like: 'nursery.*' },
      { take: 'in', like: 'Field Notes.*' },
      { take: 'out', like: '*.tmp_*' },
      { take: 'out', like: 'nursery.watering_rota' },
    ],
    later: 'report',
    names: [
      { names: 'all', like: 'Field Notes.*', does: { make: 'plain letters' } },
      { names: 'all', like: 'Field Notes.*', does: { find: '[^A-Za-z0-9]+', by: '_' } },
      { names: 'all', like: 'Field Notes.*', does: { find: '_$', by: '' } },
      { names: 'tables', like: 'Field Notes.*', does: { prefix: 'notes_' } },
    ],
    columns: [
      { like: 'nursery.dispatches.contact_mail', does: { mask: 'hash' } },
      { like: 'nursery.dispatch_lines', does: { add: 'line_total', compute: 'plants * unit_price' } },
    ],
    scopes: [{ like: 'nursery.inspections', where: { column: 'grade', in: ['A', 'B', 'C'] } }],
    lanes: [{ like: 'nursery.beds', does: { history: true } }],
    status: 'tide',
  })
  await call(server, 'POST', `/pipelines/${pipeline.id}/start`)
}
