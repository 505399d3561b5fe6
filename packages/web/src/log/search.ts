/** What is looked for in the log stands in the address, so that it can be sent to somebody. */
import { LOG_LEVELS, type LogLevel, type LogQuery } from '@tide/core/definition/log'
import { useSearchParams } from 'react-router'

const FIELDS = ['text', 'level', 'lane', 'pipeline', 'since', 'until'] as const

type Field = (typeof FIELDS)[number]

export interface LogSearch {
  query: LogQuery
  /** Something narrows what is shown. */
  narrowed: boolean
  set(field: Field, value: string): void
  clear(): void
}

/** `pipeline`: the one whose log it is, whatever the address says. */
export function useLogSearch(pipeline: string | undefined): LogSearch {
  const [params, setParams] = useSearchParams()
  const given = Object.fromEntries(
    FIELDS.flatMap(field => {
      const value = params.get(field)
      return value ? [[field, value]] : []
    }),
  )
  const { level, ...rest } = given
  const set = (change: (next: URLSearchParams) => void) =>
    setParams(
      before => {
        const next = new URLSearchParams(before)
        change(next)
        return next
      },
      { replace: true },
    )
  return {
    query: { ...rest, level: levelOf(level), ...(pipeline ? { pipeline } : {}) },
    narrowed: Object.keys(given).length > 0,
    set: (field, value) => set(next => (value === '' ? next.delete(field) : next.set(field, value))),
    clear: () => set(next => FIELDS.forEach(field => next.delete(field))),
  }
}

/** Details are shown to those who look for them. */
function levelOf(text: string | undefined): LogLevel {
  return LOG_LEVELS.find(level => level === text) ?? 'info'
}

/** As the server takes it; times that are written without a zone are those of the browser. */
export function logParams(query: LogQuery): URLSearchParams {
  const params = new URLSearchParams()
  for (const [field, value] of Object.entries(query))
    params.set(field, field === 'since' || field === 'until' ? zoned(value as string) : (value as string))
  return params
}

function zoned(text: string): string {
  const at = new Date(text)
  return Number.isNaN(at.getTime()) ? text : at.toISOString()
}
