/** Text that is safe inside HTML. */
export interface Markup {
  readonly markup: string
}

const ESCAPES: Record<string, string> = {
  '&': '&amp;',
  '<': '&lt;',
  '>': '&gt;',
  '"': '&quot;',
  "'": '&#39;',
}

/** A template whose values are escaped unless they are markup themselves; lists are joined, `false` and null left out. */
export function html(strings: TemplateStringsArray, ...values: unknown[]): Markup {
  return { markup: strings.reduce((text, part, i) => text + render(values[i - 1]) + part) }
}

function render(value: unknown): string {
  if (value === null || value === undefined || value === false) return ''
  if (Array.isArray(value)) return value.map(render).join('')
  if (typeof value === 'object' && 'markup' in value) return String(value.markup)
  return String(value).replace(/[&<>"']/g, sign => ESCAPES[sign]!)
}
