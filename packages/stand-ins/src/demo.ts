/** Sets the demo world up through the same API that people use. */
import { call } from './api-call.ts'
import type { Site } from './site.ts'

export interface DemoPlace {
  server: string
  warehouse: string
}

interface Named {
  id: string
  name: string
}

/** Makes what the demo begins with, unless somebody has made connections already. */
export async function setUpDemo(site: Site, { server, warehouse }: DemoPlace): Promise<void> {
  const present = await call<Named[]>(server, 'GET', '/connections')
  if (present.length > 0) return
  const source = await call<Named>(server, 'POST', '/connections', {
    name: site.name,
    kind: 'postgres',
    config: { ...site.access, method: 'triggers', screen: site.screen },
  })
  const target = await call<Named>(server, 'POST', '/connections', {
    name: 'growers_warehouse',
    kind: 'duckdb',
    config: { path: warehouse, fold: 'upper', allowed: 'word', maxLength: 63 },
  })
  const pipeline = await call<Named>(server, 'POST', '/pipelines', {
    version: 2,
    shape: 'replicate',
    name: `${site.name} to warehouse`,
    from: source.id,
    to: target.id,
    targetSchema: 'NURSERY',
    tables: [],
    patterns: [
      { take: 'in', like: 'nursery.*' },
      { take: 'out', like: '*.tmp_*' },
      { take: 'out', like: 'nursery.watering_rota' },
    ],
    later: 'report',
    columns: [{ like: 'nursery.dispatches.contact_mail', does: { mask: 'hash' } }],
  })
  await call(server, 'POST', `/pipelines/${pipeline.id}/start`)
}
