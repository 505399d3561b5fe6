import { Outlet } from 'react-router'
import type { ConnectionInfo } from '@tide/core/api/connections'
import { useConnections, useConnectors } from '../api/queries.ts'
import { useLive } from '../api/live.ts'
import { ago } from '../format.ts'
import { Ledger } from '../frame/Ledger.tsx'
import { useWhere } from '../frame/crumbs.ts'
import { ButtonLink, TextButton } from '../parts/Button.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { useNavigate } from 'react-router'

export function ConnectionsPage() {
  const connections = useConnections()
  const connectors = useConnectors().data ?? []
  const navigate = useNavigate()
  const title = (kind: string) => connectors.find(connector => connector.kind === kind)?.title ?? kind
  const rows = (connections.data ?? []).map(connection => ({
    id: connection.id,
    to: `/connections/${connection.id}`,
    text: `${connection.name} ${title(connection.kind)} ${connection.address}`,
    content: <Row connection={connection} title={title(connection.kind)} />,
  }))
  return (
    <>
      <Ledger
        title="Connections"
        action={<TextButton onClick={() => navigate('/connections/new')}>New connection</TextButton>}
        rows={rows}
        findLabel="Find by name, kind or address"
        empty="A connection says how to reach one system: a database to read from, a warehouse to write to."
      />
      <main className="min-w-0 flex-1 overflow-auto">
        <ErrorNotice error={connections.error} />
        <Outlet />
      </main>
    </>
  )
}

function Row({ connection, title }: { connection: ConnectionInfo; title: string }) {
  const now = useLive(live => live.now)
  const check = connection.lastCheck
  return (
    <>
      <span className="flex justify-between gap-2 font-semibold">
        <span className="overflow-hidden text-ellipsis whitespace-nowrap">{connection.name}</span>
        {check && (
          <span className={`text-[13px] font-normal ${check.failed > 0 ? 'text-buoy' : 'text-ink-2'}`}>
            {check.failed > 0
              ? `${check.failed} failed`
              : check.warnings > 0
                ? `${check.warnings} to look at`
                : 'well'}
          </span>
        )}
      </span>
      <span className="flex justify-between gap-2 text-[13px] text-ink-2">
        <span>{title}</span>
        <span>{check ? `checked ${ago(check.at, now)}` : 'not checked yet'}</span>
      </span>
    </>
  )
}

export function NoConnection() {
  useWhere({ title: 'Connections' })
  const connections = useConnections().data
  const connectors = useConnectors().data ?? []
  return (
    <div className="max-w-2xl p-8">
      <h1 className="text-[20px]">{connections?.length ? 'Choose a connection' : 'No connections yet'}</h1>
      <p className="my-3 text-ink-2">
        A connection is a way to reach one system. Test it as a checklist, browse its tables and look at rows
        here; then pipelines can use it.
      </p>
      <ul className="my-4 border-t border-line">
        {connectors.map(({ kind, title, summary, roles }) => (
          <li key={kind} className="flex items-baseline gap-4 border-b border-line py-2">
            <span className="w-28 font-semibold">{title}</span>
            <span className="flex-1 text-ink-2">
              {summary} {roles.join(' and ')}.
            </span>
            <ButtonLink to={`/connections/new?kind=${kind}`}>Add</ButtonLink>
          </li>
        ))}
      </ul>
    </div>
  )
}
