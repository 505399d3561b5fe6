/** The pipelines of the demo that send into apps: made once the warehouse has what they ask for, and run once. */
import { setTimeout as sleep } from 'node:timers/promises'
import { call } from './api-call.ts'

const LOOK_MS = 1_000
const WITHIN_MS = 600_000

const ORDERS = `SELECT club AS name,
       count(DISTINCT dispatch_id)::INT AS orders_this_year,
       sum(line_total)::DECIMAL(12, 2) AS spent_this_year,
       max(dispatched_on) AS last_order_on
  FROM nursery.dispatches
  JOIN nursery.dispatch_lines USING (site, dispatch_id)
 WHERE dispatched_on >= date_trunc('year', current_date)
 GROUP BY club`

const LAPSED = `SELECT contact_mail AS email,
       min(club) AS name,
       max(dispatched_on) AS last_order_on,
       CASE WHEN max(dispatched_on) < {lapsed_before} THEN 'Lapsed clubs' ELSE 'Lapsing clubs' END AS audience
  FROM nursery.dispatches
 GROUP BY contact_mail
HAVING max(dispatched_on) < {no_order_since}`

interface Named {
  id: string
  name: string
}

interface Status {
  id: string
  definition: { name: string }
  state: string
}

/** Does what is not done yet. */
export async function setUpSends(server: string): Promise<void> {
  const until = Date.now() + WITHIN_MS
  while (!(await isFollowing(server))) {
    if (Date.now() > until) return
    await sleep(LOOK_MS)
  }
  const connections = await call<Named[]>(server, 'GET', '/connections')
  const idOf = (name: string) => connections.find(one => one.name === name)?.id
  const [warehouse, office] = [idOf('growers_warehouse'), idOf('Alderbank')]
  const [clubgate, pollenpost] = [idOf('Clubgate'), idOf('Pollenpost')]
  if (warehouse && clubgate)
    await make(server, {
      query: { name: 'Orders of the year, by club', connection: warehouse, sql: ORDERS, key: ['name'] },
      pipeline: {
        name: 'Orders of the year onto Clubgate’s organisations',
        from: warehouse,
        to: clubgate,
        key: ['name'],
        object: 'organisations',
        meets: [{ column: 'name', field: 'name', alike: 'but for case and spaces' }],
        may: 'create and change',
        log: { namespace: 'sent', name: 'club_orders' },
        fields: [
          { field: 'name', from: { column: 'name' }, once: true },
          { field: 'orders_this_year', from: { column: 'orders_this_year' } },
          { field: 'spent_this_year', from: { column: 'spent_this_year' } },
          { field: 'last_order_on', from: { column: 'last_order_on' } },
          {
            field: 'note',
            from: { template: 'First ordered through the nurseries’ own books.' },
            once: true,
          },
        ],
      },
      cron: '15 3 * * *',
    })
  if (office && pollenpost)
    await make(server, {
      query: {
        name: 'Clubs that have not ordered of late',
        connection: office,
        sql: LAPSED,
        key: ['email'],
        parameters: [
          { name: 'lapsed_before', type: 'date', preset: '2026-10-15' },
          { name: 'no_order_since', type: 'date', preset: '2026-11-05' },
        ],
      },
      pipeline: {
        name: 'Lapsed members into two Pollenpost audiences',
        from: office,
        to: pollenpost,
        key: ['email'],
        object: 'members',
        meets: [],
        may: 'make identical',
        fields: [
          { field: 'audience', from: { column: 'audience' }, by: 'name' },
          { field: 'email', from: { column: 'email' } },
          { field: 'name', from: { column: 'name' } },
          { field: 'last_order_on', from: { column: 'last_order_on' } },
        ],
      },
      cron: '45 3 * * *',
    })
}

interface Made {
  query: { name: string; connection: string; sql: string; key: string[]; parameters?: object[] }
  pipeline: { name: string; [more: string]: unknown }
  cron: string
}

async function make(server: string, { query, pipeline, cron }: Made): Promise<void> {
  const present = await call<Status[]>(server, 'GET', '/pipelines')
  if (present.some(({ definition }) => definition.name === pipeline.name)) return
  const queries = await call<Named[]>(server, 'GET', '/queries')
  const { id } =
    queries.find(({ name }) => name === query.name) ?? (await call<Named>(server, 'POST', '/queries', query))
  const made = await call<Status>(server, 'POST', '/pipelines', {
    version: 2,
    shape: 'send',
    what: { query: id },
    ...pipeline,
  })
  await call(server, 'POST', `/pipelines/${made.id}/start`)
  await call(server, 'POST', `/pipelines/${made.id}/schedules`, {
    deed: 'send',
    cron,
    zone: 'Europe/London',
    missed: 'once',
    waitsFor: [],
    enabled: true,
  })
  await call(server, 'POST', `/pipelines/${made.id}/send`, { deed: 'run' })
}

async function isFollowing(server: string): Promise<boolean> {
  const all = await call<Status[]>(server, 'GET', '/pipelines')
  return all.some(
    ({ definition, state }) => definition.name === 'All sites to warehouse' && state === 'Following',
  )
}
