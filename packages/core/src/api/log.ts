/** The log as a text or as one JSON object a line, for other tools. */
import type { LogLine } from '../definition/log.ts'

export const LOG_FORMS = ['text', 'json'] as const

export type LogForm = (typeof LOG_FORMS)[number]

/** `pipeline`: its name; nothing where the line is about none. Ends with a line break. */
export function printLogLine(line: LogLine, pipeline: string | null, form: LogForm): string {
  const { at, level, lanes, message, remedy, byPerson } = line
  const time = new Date(at).toISOString()
  if (form === 'json')
    return `${JSON.stringify({ at: time, level, pipeline, lanes, message, remedy, byPerson })}\n`
  const who = byPerson ? 'person' : level
  const said = [message, ...(remedy ? [remedy] : [])].join(' ').replace(/\s*\n\s*/g, ' ⏎ ')
  return `${time} ${who.padEnd(7)} ${pipeline === null ? '' : `${pipeline}: `}${said}\n`
}
