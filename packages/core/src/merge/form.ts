/** How one side keeps the values of a field: what a side makes of a value's form is nobody's edit. */

/** Canonical text; null: nothing. A set is a JSON list of texts. */
export type Value = string | null

export type Form =
  | { kind: 'text'; trims?: true; lowers?: true }
  /** `decimals`: to which a side rounds. */
  | { kind: 'number'; decimals?: number }
  | { kind: 'date' }
  /** `everyMs`: how fine a side keeps it. */
  | { kind: 'moment'; everyMs?: number }
  | { kind: 'set' }
  | { kind: 'other' }

export function sameIn(form: Form, one: Value, other: Value): boolean {
  return one === other || normalIn(form, one) === normalIn(form, other)
}

/** Equal for values that are the same to that side. Nothing and empty text are. */
export function normalIn(form: Form, value: Value): Value {
  if (value === null || value === '') return null
  switch (form.kind) {
    case 'text':
      return textOf(form, value) || null
    case 'number':
      return numberOf(value, form.decimals) ?? value
    case 'moment':
      return momentOf(value, form.everyMs) ?? value
    case 'set': {
      const elements = elementsOf(value)
      return elements.length === 0 ? null : JSON.stringify(elements.sort())
    }
    default:
      return value
  }
}

function textOf({ trims, lowers }: Extract<Form, { kind: 'text' }>, value: string): string {
  const text = trims ? value.trim() : value
  return lowers ? text.toLowerCase() : text
}

const NUMBER = /^([+-]?)(\d*)(?:\.(\d*))?(?:[eE]([+-]?\d{1,4}))?$/

/** By its value, with no more decimals than that; undefined: it is none. */
function numberOf(text: string, decimals: number | undefined): string | undefined {
  const [, sign, whole = '', part = '', power = '0'] = NUMBER.exec(text) ?? []
  if (sign === undefined || whole + part === '') return undefined
  // `digits` times ten to the `exponent`.
  let digits = BigInt(whole + part)
  let exponent = Number(power) - part.length
  if (decimals !== undefined && exponent < -decimals) {
    const cut = 10n ** BigInt(-decimals - exponent)
    // Half away from zero.
    digits = (digits * 2n + cut) / (cut * 2n)
    exponent = -decimals
  }
  if (digits === 0n) return '0'
  while (digits % 10n === 0n) {
    digits /= 10n
    exponent++
  }
  return `${sign === '-' ? '-' : ''}${digits}e${exponent}`
}

/** Nanoseconds, as the text of a number; undefined: it is no moment. */
function momentOf(text: string, everyMs: number | undefined): string | undefined {
  const ms = Date.parse(text)
  if (Number.isNaN(ms)) return undefined
  if (everyMs !== undefined) return String(Math.floor(ms / everyMs) * everyMs)
  const [, fraction = ''] = /\.(\d+)/.exec(text) ?? []
  return `${Math.floor(ms / 1000)}.${fraction.replace(/0+$/, '')}`
}

/** Trimmed, each once. What is no JSON list of texts is a set of that one text. */
export function elementsOf(value: Value): string[] {
  if (value === null) return []
  let list: unknown
  try {
    list = JSON.parse(value)
  } catch {
    list = [value]
  }
  const texts = (Array.isArray(list) ? list : [list]).map(one => String(one).trim())
  return [...new Set(texts)].filter(one => one !== '')
}
