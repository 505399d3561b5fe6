import { Anchor, Cable, Map as MapIcon, NotebookText, Settings, Telescope, Waves } from 'lucide-react'
import type { ReactNode } from 'react'
import { Link, NavLink, Outlet } from 'react-router'
import { gathersSeconds } from '@tide/core/definition/files'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { useLive } from '../api/live.ts'
import { count, duration } from '../format.ts'
import { useHeld, useWaitingInApps } from '../held/useHeld.ts'
import { SearchOrDo } from './SearchOrDo.tsx'
import { useCrumbs } from './crumbs.ts'

const SECTIONS = [
  { to: '/', title: 'Map', icon: MapIcon },
  { to: '/pipelines', title: 'Pipelines', icon: Waves },
  { to: '/connections', title: 'Connections', icon: Cable },
  { to: '/query', title: 'Query', icon: Telescope },
  { to: '/held', title: 'Held', icon: Anchor },
  { to: '/log', title: 'Log', icon: NotebookText },
]

/** Spine, top strip, and the section's own ledger and sheet. */
export function Frame() {
  const inApps = useWaitingInApps().reduce((sum, { held }) => sum + held, 0)
  const held = (useHeld().data?.rows ?? 0) + inApps
  return (
    <div className="grid h-full grid-cols-[84px_minmax(0,1fr)] grid-rows-[44px_minmax(0,1fr)]">
      <header className="contents">
        <Link
          to="/"
          className="flex items-center justify-center border-b border-line-2"
          aria-label="Constant Tide, to the map"
        >
          <img src="/mark.svg" alt="" width={26} height={26} />
        </Link>
        <TopStrip />
      </header>
      <nav className="flex flex-col border-r border-line-2" aria-label="Sections">
        {SECTIONS.map(section => (
          <SpineLink key={section.to} {...section} count={section.to === '/held' ? held : undefined} />
        ))}
        <span className="flex-1" />
        <SpineLink to="/settings" title="Settings" icon={Settings} />
      </nav>
      <div className="flex min-h-0 min-w-0">
        <Outlet />
      </div>
    </div>
  )
}

function SpineLink({
  to,
  title,
  icon: Icon,
  count: waiting,
}: (typeof SECTIONS)[number] & { count?: number | undefined }) {
  return (
    <NavLink
      to={to}
      end={to === '/'}
      className={({ isActive }) =>
        `flex flex-col items-center gap-0.5 border-l-3 py-2 pr-[3px] text-[11.5px] focus-visible:outline-offset-[-2px] ${isActive ? 'border-water-4 font-semibold' : 'border-transparent text-ink-2 hover:text-ink'}`
      }
    >
      <Icon size={18} strokeWidth={1.6} aria-hidden />
      {title}
      {waiting !== undefined && waiting > 0 && (
        <span className="font-semibold text-buoy">{count(waiting)}</span>
      )}
    </NavLink>
  )
}

function TopStrip() {
  const crumbs = useCrumbs(state => state.crumbs)
  return (
    <div className="flex items-center gap-4 border-b border-line-2 px-4">
      <ol
        className="flex min-w-0 flex-1 items-center gap-2 text-[14px] font-semibold"
        aria-label="Where you are"
      >
        {crumbs.map(({ title, to }, i) => (
          <li key={`${i} ${title}`} className="flex min-w-0 items-center gap-2 whitespace-nowrap">
            {i > 0 && <span className="font-normal text-ink-3">/</span>}
            {to ? (
              <Link to={to}>{title}</Link>
            ) : (
              <span className="overflow-hidden text-ellipsis">{title}</span>
            )}
          </li>
        ))}
      </ol>
      <SearchOrDo />
      <WorstLag />
    </div>
  )
}

function WorstLag() {
  const pipelines = useLive(live => live.pipelines)
  const connected = useLive(live => live.connected)
  if (!connected) {
    return (
      <Strip label="no answer from the server" name="shown as it was last known">
        <span className="text-buoy">old</span>
      </Strip>
    )
  }
  const behind = (pipelines ?? []).filter(pipeline => pipeline.lagSeconds !== null)
  // What was told to wait is not late before that is over.
  const late = ({ lagSeconds, definition }: PipelineStatus) => lagSeconds! - gathersSeconds(definition)
  const worst = behind.reduce<PipelineStatus | undefined>(
    (a, b) => (a && late(a) >= late(b) ? a : b),
    undefined,
  )
  if (!worst) {
    return (
      <Strip label="worst lag now" name="nothing follows">
        –
      </Strip>
    )
  }
  return (
    <Link to={`/pipelines/${worst.id}`}>
      <Strip label="worst lag now" name={worst.definition.name}>
        <span className={worst.lagSeconds! > 300 ? 'text-buoy' : ''}>{duration(worst.lagSeconds!)}</span>
      </Strip>
    </Link>
  )
}

function Strip({ label, name, children }: { label: string; name: string; children: ReactNode }) {
  return (
    <div
      className="flex w-[250px] items-center justify-end gap-2.5"
      aria-label={`${label}: ${name}`}
      role="status"
    >
      <span className="min-w-0 text-right text-[11.5px] leading-tight text-ink-2">
        {label}
        <br />
        <span className="block overflow-hidden text-ellipsis whitespace-nowrap">{name}</span>
      </span>
      <span className="min-w-14 text-right text-[19px] font-semibold whitespace-nowrap">{children}</span>
    </div>
  )
}
