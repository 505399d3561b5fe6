/** Looks at the app's records before anything is sent: which of those that we have sent are no longer as we sent them. */
import type { AppSide } from '@tide/connectors/contract/app'
import type { SentState } from '@tide/connectors/contract/sent'
import type { AppObject } from '@tide/core/app/object'
import type { HandEdits, SendRow } from '@tide/core/api/send'
import { Failure } from '@tide/core/failure'
import { alike } from '@tide/core/send/alike'

/** So many are shown. */
const SHOWN = 200

interface Looked {
  app: AppSide
  object: AppObject
  state: SentState
  signal: AbortSignal
}

export async function handEdits({ app, object, state, signal }: Looked): Promise<HandEdits> {
  if (!object.can.list)
    throw new Failure(
      'refused',
      `${app.name} does not tell its ${object.title}, so that nobody can look.`,
      'Send everything again, if somebody has changed them there.',
    )
  const fields = new Map(object.fields.map(field => [field.name, field]))
  const { sent } = await state.totals()
  const edits: HandEdits = { looked: 0, edited: 0, gone: 0, rows: [] }
  const seen = new Set<string>()
  const tell = (row: SendRow) => {
    if (edits.rows.length < SHOWN) edits.rows.push(row)
  }
  for await (const page of app.list(object.name, { signal })) {
    const there = new Map(page.map(record => [record[object.key] ?? '', record]))
    for (const { key, id, values } of await state.withIds([...there.keys()])) {
      const record = there.get(id ?? '')!
      seen.add(id!)
      edits.looked++
      const other = Object.keys(values).filter(name => {
        const field = fields.get(name)
        return field && !alike(values[name] ?? null, record[name] ?? null, field)
      })
      if (other.length === 0) continue
      edits.edited++
      tell({
        op: 'change',
        key,
        id,
        was: Object.fromEntries(other.map(name => [name, record[name] ?? null])),
        values: Object.fromEntries(other.map(name => [name, values[name] ?? null])),
        field: null,
        reason: null,
        remedy: null,
      })
    }
  }
  edits.gone = Math.max(0, sent - edits.looked)
  if (edits.gone > 0)
    for (const { key, id, values } of await state.withoutIds([...seen], SHOWN))
      tell({ op: 'create', key, id, was: null, values, field: null, reason: null, remedy: null })
  return edits
}
