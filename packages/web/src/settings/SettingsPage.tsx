import type { EngineInfo } from '@tide/core/api/engines'
import { useQuery } from '@tanstack/react-query'
import { api } from '../api/client.ts'
import { useWhere } from '../frame/crumbs.ts'
import { setTheme, useTheme, type Theme } from '../frame/theme.ts'
import { moment } from '../format.ts'
import { Copyable } from '../parts/Copyable.tsx'
import { DataTable, type Column } from '../parts/DataTable.tsx'

const THEMES: Theme[] = ['light', 'dark', 'as the system']

const ENGINE_COLUMNS: Column<EngineInfo>[] = [
  { title: 'Engine', cell: one => (one.here ? `${one.name} (this one)` : one.name), by: one => one.name },
  { title: 'State', cell: one => (one.live ? 'there' : 'gone'), by: one => Number(one.live) },
  { title: 'Pipelines', cell: one => one.pipelines, by: one => one.pipelines, align: 'right' },
  { title: 'Started', cell: one => moment(one.startedAt), by: one => one.startedAt },
  { title: 'Last heard', cell: one => moment(one.seenAt), by: one => one.seenAt },
]

const ENGINES_EVERY_MS = 3_000

export function SettingsPage() {
  useWhere({ title: 'Settings' })
  const theme = useTheme(state => state.theme)
  const about = useQuery({
    queryKey: ['about'],
    queryFn: () => api<{ version: string; dataFolder: string; processId: number }>('GET', '/about'),
  }).data
  const engines = useQuery({
    queryKey: ['engines'],
    queryFn: () => api<EngineInfo[]>('GET', '/engines'),
    refetchInterval: ENGINES_EVERY_MS,
  }).data
  return (
    <main className="min-w-0 flex-1 overflow-auto px-6 py-4">
      <h1 className="text-[20px]">Settings</h1>
      <fieldset className="mt-4">
        <legend className="text-[14px] font-semibold">Theme</legend>
        <div className="mt-1 flex gap-5">
          {THEMES.map(one => (
            <label key={one} className="flex items-center gap-1.5">
              <input type="radio" name="theme" checked={theme === one} onChange={() => setTheme(one)} />
              {one}
            </label>
          ))}
        </div>
      </fieldset>
      <h2 className="mt-6 text-[14px]">This server</h2>
      {about && (
        <dl className="mt-1 grid grid-cols-[140px_1fr] gap-y-1">
          <dt className="text-ink-2">Version</dt>
          <dd>{about.version}</dd>
          <dt className="text-ink-2">Data folder</dt>
          <dd>
            <Copyable text={about.dataFolder} />
          </dd>
          <dt className="text-ink-2">Process</dt>
          <dd>{about.processId}</dd>
          <dt className="text-ink-2">Health</dt>
          <dd>
            <a className="text-link underline" href="/api/health">
              /api/health
            </a>
          </dd>
        </dl>
      )}
      {engines && engines.length > 1 && (
        <section className="mt-6 max-w-3xl" aria-label="Engines">
          <h2 className="text-[14px]">Engines that share the store</h2>
          <DataTable label="Engines" columns={ENGINE_COLUMNS} rows={engines} rowKey={one => one.id} />
        </section>
      )}
      <p className="mt-6 max-w-prose text-[13px] text-ink-2">
        Port, host and data folder are set where the server is started: TIDE_PORT, TIDE_HOST and TIDE_DATA.
        Everything the application knows is in the data folder; secrets are encrypted with the key file in it,
        or with TIDE_KEY. With DATABASE_URL the store is on a PostgreSQL server instead, and several engines
        can share the pipelines.
      </p>
    </main>
  )
}
