/** Whether a value fits a field, as the text that the app is to get. */
import type { AppField } from '../app/object.ts'

export interface Misfit {
  reason: string
  remedy: string
}

/** As careful as the apps are: one sign, a name, and a host with a dot. */
const EMAIL = /^[^\s@<>,;"]+@[^\s@<>,;"]+\.[^\s@<>,;".]+$/
const INTEGER = /^-?\d+$/
const WHOLE = /^(-?\d+)\.0+$/
const DECIMAL = /^-?\d+(\.\d+)?([eE][-+]?\d+)?$/
const DATE = /^\d{4}-\d{2}-\d{2}$/
const MIDNIGHT = /^(\d{4}-\d{2}-\d{2})[ T]00:00:00(\.0+)?(Z|[-+]00(:?00)?)?$/
const MOMENT = /^(\d{4}-\d{2}-\d{2})(?:[ T](\d{2}:\d{2}(?::\d{2}(?:\.\d+)?)?))?(Z|[-+]\d{2}(?::?\d{2})?)?$/

/** `value`: canonical text of whatever type its column has. */
export function fitted(value: string, field: AppField): { text: string } | Misfit {
  const { type, choices, maxLength, email } = field
  const wrong = (what: string): Misfit => ({
    reason: `“${shown(value)}” is no ${what}.`,
    remedy: 'Correct it at the source, or turn it with an expression.',
  })
  switch (type.kind) {
    case 'int': {
      const text = WHOLE.exec(value)?.[1] ?? value
      return INTEGER.test(text) ? { text } : wrong('whole number')
    }
    case 'decimal':
    case 'float':
      return DECIMAL.test(value) ? { text: value } : wrong('number')
    case 'bool':
      if (value === 't' || value === 'true') return { text: 'true' }
      return value === 'f' || value === 'false' ? { text: 'false' } : wrong('truth value')
    case 'date': {
      const text = MIDNIGHT.exec(value)?.[1] ?? value
      return DATE.test(text) ? { text } : wrong('date')
    }
    case 'timestamp': {
      const [, day, time = '00:00:00', zone = 'Z'] = MOMENT.exec(value) ?? []
      if (day === undefined) return wrong('moment')
      return { text: `${day}T${time}${/^[-+]\d{2}$/.test(zone) ? `${zone}:00` : zone}` }
    }
    case 'list':
    case 'json':
      return isJson(value, type.kind === 'list')
        ? { text: value }
        : wrong(type.kind === 'list' ? 'list in JSON' : 'JSON')
    default:
      break
  }
  if (choices && !choices.includes(value))
    return {
      reason: `“${shown(value)}” is none of the choices: ${choices.join(', ')}.`,
      remedy: 'Turn it into one of them with an expression, or add it in the app.',
    }
  const characters = maxLength === null ? 0 : [...value].length
  if (maxLength !== null && characters > maxLength)
    return {
      reason: `It has ${characters} characters; the app takes ${maxLength}.`,
      remedy: 'Shorten it at the source, or cut it with an expression.',
    }
  if (email && !EMAIL.test(value.trim()))
    return { reason: `“${shown(value)}” is no e-mail address.`, remedy: 'Correct it at the source.' }
  return { text: value }
}

const SHOWN = 60

function shown(value: string): string {
  return value.length > SHOWN ? `${value.slice(0, SHOWN)}…` : value
}

function isJson(text: string, list: boolean): boolean {
  try {
    const value: unknown = JSON.parse(text)
    return !list || Array.isArray(value)
  } catch {
    return false
  }
}
