import type { ReactNode } from 'react'
import { NavLink } from 'react-router'

const SECTIONS = [
  { to: '/pipelines', title: 'All' },
  { to: '/pipelines/runs', title: 'Runs by table' },
]

/** What is said of all pipelines together. */
export function Overview({ children }: { children: ReactNode }) {
  return (
    <div className="px-6 py-4">
      <h1 className="text-[20px] leading-tight">Pipelines</h1>
      <nav className="mt-3 flex gap-6 border-b border-line-2" aria-label="Sections of the overview">
        {SECTIONS.map(({ to, title }) => (
          <NavLink
            key={to}
            to={to}
            end
            className={({ isActive }) =>
              `-mb-px border-b-2 pb-1.5 ${isActive ? 'border-ink font-semibold' : 'border-transparent text-ink-2'}`
            }
          >
            {title}
          </NavLink>
        ))}
      </nav>
      {children}
    </div>
  )
}
