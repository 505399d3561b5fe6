import { useEffect, useRef, useState, type KeyboardEvent } from 'react'
import { useNavigate } from 'react-router'
import { api } from '../api/client.ts'
import { putPipeline, useLive } from '../api/live.ts'
import { useConnections } from '../api/queries.ts'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { setTheme } from './theme.ts'

interface Deed {
  title: string
  kind: string
  go: () => unknown
}

const MOST = 9

/** Finds things by name, and does things by verb. `/` comes here from anywhere. */
export function SearchOrDo() {
  const navigate = useNavigate()
  const pipelines = useLive(live => live.pipelines) ?? []
  const connections = useConnections().data ?? []
  const [text, setText] = useState('')
  const [open, setOpen] = useState(false)
  const [at, setAt] = useState(0)
  const [problem, setProblem] = useState<string>()
  const input = useRef<HTMLInputElement>(null)

  useEffect(() => {
    const onSlash = (event: globalThis.KeyboardEvent) => {
      const typing =
        event.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(event.target.tagName)
      if (event.key !== '/' || typing || event.ctrlKey || event.metaKey) return
      event.preventDefault()
      input.current?.focus()
    }
    window.addEventListener('keydown', onSlash)
    return () => window.removeEventListener('keydown', onSlash)
  }, [])

  const act = (id: string, verb: string) => async () =>
    putPipeline(await api<PipelineStatus>('POST', `/pipelines/${id}/${verb}`))
  const deeds: Deed[] = [
    ...pipelines.map(({ id, definition }) => ({
      title: definition.name,
      kind: 'pipeline',
      go: () => navigate(`/pipelines/${id}`),
    })),
    ...connections.map(({ id, name }) => ({
      title: name,
      kind: 'connection',
      go: () => navigate(`/connections/${id}`),
    })),
    { title: 'New pipeline', kind: 'do', go: () => navigate('/pipelines/new') },
    { title: 'New connection', kind: 'do', go: () => navigate('/connections/new') },
    ...pipelines.flatMap(({ id, definition: { name }, state }) => {
      if (state === 'Following' || state === 'Copying')
        return [{ title: `Pause ${name}`, kind: 'do', go: act(id, 'pause') }]
      if (state === 'Paused') return [{ title: `Continue ${name}`, kind: 'do', go: act(id, 'continue') }]
      return []
    }),
    ...['Map', 'Pipelines', 'Connections', 'Query', 'Log', 'Settings'].map(title => ({
      title,
      kind: 'go to',
      go: () => navigate(title === 'Map' ? '/' : `/${title.toLowerCase()}`),
    })),
    { title: 'Dark theme', kind: 'do', go: () => setTheme('dark') },
    { title: 'Light theme', kind: 'do', go: () => setTheme('light') },
  ]
  const words = text.toLowerCase().split(/\s+/).filter(Boolean)
  const found = deeds
    .filter(({ title }) => words.every(word => title.toLowerCase().includes(word)))
    .slice(0, MOST)

  const run = async (deed: Deed | undefined) => {
    if (!deed) return
    try {
      await deed.go()
      setText('')
      setOpen(false)
      setProblem(undefined)
      input.current?.blur()
    } catch (error) {
      setProblem((error as Error).message)
    }
  }
  const onKey = (event: KeyboardEvent) => {
    if (event.key === 'ArrowDown') setAt(Math.min(found.length - 1, at + 1))
    else if (event.key === 'ArrowUp') setAt(Math.max(0, at - 1))
    else if (event.key === 'Enter') void run(found[at])
    else if (event.key === 'Escape') input.current?.blur()
    else return
    event.preventDefault()
  }
  return (
    <div className="relative w-[300px]">
      <input
        ref={input}
        role="combobox"
        aria-expanded={open}
        aria-controls="search-or-do-list"
        aria-activedescendant={open && found[at] ? `deed-${at}` : undefined}
        aria-label="Search, or say what to do"
        placeholder="Search, or say what to do"
        value={text}
        onChange={event => {
          setText(event.target.value)
          setAt(0)
          setProblem(undefined)
        }}
        onFocus={() => setOpen(true)}
        onBlur={() => setOpen(false)}
        onKeyDown={onKey}
        className="w-full rounded-sm border border-line-2 bg-paper-3 py-1 pr-8 pl-2.5 text-[13px]"
      />
      <kbd className="pointer-events-none absolute top-1 right-1.5 rounded-sm border border-line-2 bg-paper-2 px-1.5 font-mono text-[11px] text-ink-2">
        /
      </kbd>
      {open && (
        <ul
          id="search-or-do-list"
          role="listbox"
          className="absolute top-full right-0 left-0 z-30 border border-line-2 bg-paper-3 py-1 text-[13px]"
        >
          {problem && <li className="px-3 py-1 text-buoy">{problem}</li>}
          {found.map((deed, i) => (
            <li
              key={`${deed.kind} ${deed.title}`}
              id={`deed-${i}`}
              role="option"
              aria-selected={i === at}
              onMouseDown={event => {
                event.preventDefault()
                void run(deed)
              }}
              onMouseEnter={() => setAt(i)}
              className={`flex justify-between gap-3 px-3 py-1 ${i === at ? 'bg-paper-2' : ''}`}
            >
              <span className="overflow-hidden text-ellipsis whitespace-nowrap">{deed.title}</span>
              <span className="text-ink-3">{deed.kind}</span>
            </li>
          ))}
          {found.length === 0 && (
            <li className="px-3 py-1 text-ink-2">Nothing is called that, and no deed either.</li>
          )}
        </ul>
      )}
    </div>
  )
}
