import { PanelLeftClose, PanelLeftOpen } from 'lucide-react'
import { useRef, useState, type KeyboardEvent, type ReactNode } from 'react'
import { NavLink } from 'react-router'
import { FindField } from '../parts/Field.tsx'

export interface LedgerRow {
  id: string
  to: string
  /** Where the address alone does not tell which row is open. */
  active?: boolean
  /** What the search looks in. */
  text: string
  content: ReactNode
}

const FOLDED = 'ledger folded'

/** The list of a section: search at the top, then rows. Arrow keys move, Enter opens. */
export function Ledger({
  title,
  action,
  rows,
  findLabel,
  empty,
}: {
  title: string
  action: ReactNode
  rows: LedgerRow[]
  findLabel: string
  empty: ReactNode
}) {
  const [find, setFind] = useState('')
  const [folded, setFolded] = useState(localStorage.getItem(FOLDED) === 'yes')
  const list = useRef<HTMLUListElement>(null)
  const fold = (to: boolean) => {
    localStorage.setItem(FOLDED, to ? 'yes' : 'no')
    setFolded(to)
  }
  if (folded) {
    return (
      <aside className="border-r border-line bg-paper-2 p-2" aria-label={title}>
        <button
          type="button"
          aria-label={`Unfold the list of ${title.toLowerCase()}`}
          onClick={() => fold(false)}
        >
          <PanelLeftOpen size={16} />
        </button>
      </aside>
    )
  }
  const shown = rows.filter(row => row.text.toLowerCase().includes(find.toLowerCase()))
  const move = (event: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key]
    if (!step) return
    event.preventDefault()
    const links = [...(list.current?.querySelectorAll('a') ?? [])]
    const at = links.findIndex(link => link === document.activeElement)
    links[Math.max(0, Math.min(links.length - 1, at + step))]?.focus()
  }
  return (
    <aside
      className="flex w-[290px] shrink-0 flex-col border-r border-line bg-paper-2"
      aria-label={title}
      onKeyDown={move}
    >
      <div className="px-4 pt-3 pb-2">
        <div className="flex items-baseline gap-2">
          <h2 className="text-[15px]">{title}</h2>
          <button
            type="button"
            className="text-ink-3"
            aria-label={`Fold the list of ${title.toLowerCase()}`}
            onClick={() => fold(true)}
          >
            <PanelLeftClose size={14} className="inline" />
          </button>
          <span className="ml-auto text-[13px]">{action}</span>
        </div>
        <FindField
          label={findLabel}
          value={find}
          onChange={event => setFind(event.target.value)}
          className="mt-1.5"
        />
      </div>
      <ul ref={list} className="min-h-0 flex-1 overflow-y-auto border-t border-line">
        {shown.map(row => (
          <li key={row.id} className="border-b border-line">
            <NavLink
              to={row.to}
              className={({ isActive }) =>
                `block border-l-3 px-[13px] py-2 focus-visible:outline-offset-[-2px] ${(row.active ?? isActive) ? 'border-water-4 bg-paper' : 'border-transparent hover:bg-paper'}`
              }
            >
              {row.content}
            </NavLink>
          </li>
        ))}
        {rows.length === 0 && <li className="p-4 text-[13px] text-ink-2">{empty}</li>}
        {rows.length > 0 && shown.length === 0 && (
          <li className="p-4 text-[13px] text-ink-2">None is found by “{find}”.</li>
        )}
      </ul>
    </aside>
  )
}
