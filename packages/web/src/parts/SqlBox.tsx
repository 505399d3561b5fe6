import type { ReactNode } from 'react'
import { Button } from './Button.tsx'

interface SqlBoxProps {
  id: string
  sql: string
  change: (sql: string) => void
  run: () => void
  /** Ends what runs; absent: nothing does. */
  stop?: (() => void) | undefined
  /** What the button says. */
  verb: string
  busy: boolean
  /** Beside the button: how it stands. */
  children: ReactNode
}

/** One reading statement to write and run; Ctrl+Enter runs it. */
export function SqlBox({ id, sql, change, run, stop, verb, busy, children }: SqlBoxProps) {
  return (
    <form
      onSubmit={event => {
        event.preventDefault()
        run()
      }}
    >
      <label htmlFor={id} className="sr-only">
        SQL, one reading statement
      </label>
      <textarea
        id={id}
        value={sql}
        rows={5}
        spellCheck={false}
        placeholder="SELECT …"
        onChange={event => change(event.target.value)}
        onKeyDown={event => event.key === 'Enter' && (event.ctrlKey || event.metaKey) && run()}
        className="w-full resize-y border border-line-2 bg-paper-3 p-2 font-mono text-[12.5px] leading-snug"
      />
      <div className="flex items-center gap-3">
        <Button look="filled" type="submit" disabled={sql.trim() === '' || busy}>
          {verb}
        </Button>
        {stop && (
          <Button type="button" onClick={stop}>
            Stop
          </Button>
        )}
        <span className="text-[12px] text-ink-2" role="status">
          {children}
        </span>
      </div>
    </form>
  )
}
