/** Sends operations call by call: what is about to be sent is kept before, and what came of it after, so that nothing is sent twice unawares. */
import { NotDone, type AppSide } from '@tide/connectors/contract/app'
import type {
  Compared,
  SentCall,
  SentOperation,
  SentOutcome,
  SentState,
} from '@tide/connectors/contract/sent'
import type { AppObject, WriteOperation } from '@tide/core/app/object'
import type { MatchKey } from '@tide/core/definition/send'
import { Failure } from '@tide/core/failure'
import { normal } from '@tide/core/send/mapped'

export interface SendingParts {
  app: AppSide
  object: AppObject
  meets: readonly MatchKey[]
  state: SentState
  now(): string
  newId(): string
  signal: AbortSignal
  /** A call is over. */
  told(done: { operations: readonly SentOperation[]; outcomes: readonly SentOutcome[] }): void
}

/** Calls that are read at a time. */
const PAGE = 4

const REMEDY = 'Correct it at the source; it goes with the next run. Or let it be tried again as it is.'

/** All that is to be done, several calls at once; `enough`: whether to end before. */
export async function sendAll(
  parts: SendingParts,
  compared: Compared,
  run: string,
  enough: () => boolean,
): Promise<void> {
  const { app, object, signal, newId } = parts
  const together = app.mostTogether(object.name)
  let queue: SentOperation[] = []
  // The next page is read while this one is sent.
  let coming = compared.operations(0, together * PAGE)
  const next = async (): Promise<SentOperation[]> => {
    if (queue.length === 0) {
      const page = await coming
      queue = page.map(({ operation }) => operation)
      const last = page.at(-1)
      if (last) coming = compared.operations(last.n, together * PAGE)
      coming.catch(() => {}) // whoever waits for it hears of it
    }
    // What may be done together is done by one kind, in the order of the kinds.
    const [first] = queue
    const taken = first ? queue.findIndex(({ op }, i) => op !== first.op || i === together) : 0
    return queue.splice(0, taken < 0 ? queue.length : taken)
  }
  // One kind of operation is over before the next begins: what is removed may make room.
  let kind: SentOperation['op'] | undefined
  let under: Promise<void>[] = []
  let failed: { thrown: unknown } | undefined
  while (!signal.aborted && !failed && !enough()) {
    const operations = await next()
    if (operations.length === 0) break
    if (kind !== undefined && operations[0]!.op !== kind) await Promise.all(under)
    kind = operations[0]!.op
    const call: SentCall = { once: newId(), run, operations }
    const going = carryOut(parts, call).catch((thrown: unknown) => void (failed ??= { thrown }))
    under.push(going)
    void going.then(() => void (under = under.filter(one => one !== going)))
    if (under.length >= app.atOnce) await Promise.race(under)
  }
  await Promise.all(under)
  await coming.catch(() => {})
  if (failed) throw failed.thrown
}

/** Sends a call that was never sent. */
async function carryOut(parts: SendingParts, call: SentCall): Promise<void> {
  await parts.state.begin(call)
  await send(parts, call)
}

async function send(parts: SendingParts, call: SentCall): Promise<void> {
  const { app, object, state, now, signal, told } = parts
  const { operations, once } = call
  const answers = await app
    .write(object.name, operations.map(asWritten), { once, signal })
    .catch(async (thrown: unknown) => {
      if (thrown instanceof NotDone) await state.forget(call)
      throw thrown
    })
  const outcomes = operations.map(({ id }, n): SentOutcome => {
    const answer = answers[n]!
    if (answer.answer === 'gone') return { gone: true }
    if (answer.answer === 'done') return { id: answer.id ?? id }
    if (answer.answer === 'changed')
      return { field: null, reason: 'Somebody was changing it at that moment.', remedy: REMEDY }
    return { field: answer.field, reason: answer.reason, remedy: REMEDY }
  })
  await state.end(call, outcomes, now())
  told({ operations, outcomes })
}

function asWritten({ op, id, values }: SentOperation): WriteOperation {
  return op === 'create' ? { op, values } : { op, id: id ?? '', values }
}

/**
 * What may have been sent before a kill or a lost answer: an app that knows repeats is told again by the same name; of another it is asked first
 * which of the new records are there.
 */
export async function settleCalls(parts: SendingParts): Promise<number> {
  const calls = await parts.state.unsettled()
  for (const call of calls) {
    if (parts.app.knowsRepeats) await send(parts, call)
    else await settleUnknown(parts, call)
  }
  return calls.reduce((sum, { operations }) => sum + operations.length, 0)
}

async function settleUnknown(parts: SendingParts, call: SentCall): Promise<void> {
  const { app, object, meets, state, now, told, newId } = parts
  const there: SentOperation[] = []
  const outcomes: SentOutcome[] = []
  const rest: SentOperation[] = []
  for (const operation of call.operations) {
    const id = operation.op === 'create' ? await createdAs(parts, operation) : undefined
    if (id === undefined) rest.push(operation)
    else {
      there.push(operation)
      outcomes.push({ id })
    }
  }
  if (rest.length > 0 && rest.some(({ op }) => op === 'create') && object.can.list && meets.length === 0)
    throw new Failure(
      'structural',
      `It is not known whether ${app.name} has made ${rest.length} records, for it does not know repeated calls, and there is no match key.`,
      'Give the pipeline a match key, so that they can be looked for.',
    )
  // What is there is kept, and what is not is sent anew: both under one name would be answered as one.
  if (there.length > 0) {
    await state.end({ ...call, operations: there }, outcomes, now())
    told({ operations: there, outcomes })
    if (rest.length === 0) return
    const again = { ...call, once: newId(), operations: rest }
    await state.begin(again)
    return send(parts, again)
  }
  await send(parts, call)
}

/** The record that a creation has made, if it has. */
async function createdAs(
  { app, object, meets, signal }: SendingParts,
  { values }: SentOperation,
): Promise<string | undefined> {
  for (const match of meets) {
    const wanted = normal(values[match.field] ?? null, match)
    if (wanted === null || !object.can.list) continue
    const byValue = object.findBy.includes(match.field) ? [{ [match.field]: values[match.field]! }] : []
    // The app may have made another text of it, by which alone it can be asked for.
    const all = byValue.length === 0 || match.alike !== 'exactly' ? [{}] : []
    for (const where of [...byValue, ...all])
      for await (const page of app.list(object.name, { where, signal })) {
        const found = page.find(record => normal(record[match.field] ?? null, match) === wanted)
        if (found) return found[object.key] ?? undefined
      }
  }
  return undefined
}
