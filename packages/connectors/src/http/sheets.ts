/**
 * Sheets of a spreadsheet app as places. Rows have numbers, which change whenever somebody sorts or puts a row in between; so a column of ours holds a
 * key for each, and whatever is written says of which revision of the sheet: where somebody was faster, it is read again.
 */
import { randomBytes } from 'node:crypto'
import type { DescribedSheets } from '@tide/core/app/described-sheets'
import type { AppObject, WriteAnswer, WriteOperation } from '@tide/core/app/object'
import { Failure } from '@tide/core/failure'
import type { AppRecord, Changed } from '../contract/app.ts'
import { saidIn, type Answer, type Caller } from './caller.ts'
import {
  columnsOf,
  keyed,
  keyFor,
  KEY_COLUMN,
  objectOf,
  prepared,
  recordOf,
  type Row,
  type Snapshot,
  type Writes,
} from './sheet-rows.ts'
import { Understood } from './understood.ts'
import { at, filled, placed, textOf } from './values.ts'

/** People who write without a pause are faster so many times at most. */
const MOST_TRIES = 8
/** For so long nobody is asked again which sheets there are. */
const KNOWN_MS = 5_000

export class Sheets {
  private readonly described: DescribedSheets
  private readonly caller: Caller
  private readonly understood: Understood
  private readonly app: string
  private known: { at: number; objects: Promise<AppObject[]> } | undefined
  /** By sheet: columns that somebody was told of. */
  private readonly told = new Map<string, string[]>()
  /** Sheets that have, or have had, our column. */
  private readonly haveKeys = new Set<string>()
  private readonly snapshots = new Map<string, Snapshot>()
  /** By sheet: between these revisions nothing was changed but by us. */
  private readonly own = new Map<string, { since: string; now: string }>()

  constructor(app: string, described: DescribedSheets, caller: Caller) {
    this.app = app
    this.understood = new Understood(app)
    this.described = described
    this.caller = caller
  }

  get most(): number {
    return this.described.write.most
  }

  objects(): Promise<AppObject[]> {
    const now = Date.now()
    if (this.known && now - this.known.at < KNOWN_MS) return this.known.objects
    const objects = this.readObjects()
    this.known = { at: now, objects }
    objects.catch(() => (this.known = undefined))
    return objects
  }

  private async readObjects(): Promise<AppObject[]> {
    const { path, items = '', id, title } = this.described.list
    const { signal } = new AbortController()
    const answer = await this.caller.call({ method: 'GET', path, signal })
    const sheets = this.understood.at(answer, 'the list of sheets', items)
    if (!Array.isArray(sheets)) throw this.understood.otherwise('the list of sheets', 'sheets.list.items')
    const objects: AppObject[] = []
    for (const sheet of sheets) {
      const key = textOf(at(sheet, id))
      if (key === null) throw this.understood.otherwise('a sheet', 'sheets.list.id')
      const { header } = await this.page(key, { from: 2, most: 1, signal })
      objects.push(objectOf(key, textOf(at(sheet, title)) ?? key, header))
      this.told.set(key, [...new Set([...(this.told.get(key) ?? []), ...columnsOf(header)])])
      if (header.includes(KEY_COLUMN)) this.haveKeys.add(key)
    }
    return objects
  }

  /** Rows without a key of ours are called by their numbers: nothing is written here. */
  async *list(
    sheet: string,
    { where = {}, signal }: { where?: Record<string, string>; signal: AbortSignal },
  ): AsyncGenerator<AppRecord[]> {
    const { header, rows } = await this.present(sheet, signal)
    const records = keyed(header, rows).map(({ key, row }) =>
      recordOf(header, row, key ?? `row ${row.number}`),
    )
    const wanted = Object.entries(where)
    yield records.filter(record => wanted.every(([field, value]) => record[field] === value))
  }

  /** Gives every row a key, in a column that is made for that. */
  async prepare(sheet: string, signal: AbortSignal): Promise<void> {
    await this.withKeys(sheet, signal, { mayAdd: true })
  }

  /** `known`: rows of it are known already by our keys. */
  async *changes(
    sheet: string,
    cursor: string | null,
    { signal, known }: { signal: AbortSignal; known: boolean },
  ): AsyncGenerator<{ changed: Changed[]; cursor?: string | null }> {
    const { revision, header } = await this.page(sheet, { from: 2, most: 1, signal })
    const own = this.own.get(sheet)
    if ((cursor !== null || known) && !header.includes(KEY_COLUMN)) throw this.withoutKeys(sheet)
    if (cursor === revision || (own?.since === cursor && own.now === revision)) {
      this.toldUpTo(sheet, revision)
      yield { changed: [], cursor: revision }
      return
    }
    const { header: columns, rows, revision: now } = await this.withKeys(sheet, signal, { mayAdd: true })
    this.toldUpTo(sheet, now)
    yield {
      changed: keyed(columns, rows).flatMap(({ key, row }) =>
        key === undefined ? [] : [{ id: key, record: recordOf(columns, row, key) }],
      ),
      cursor: now,
    }
  }

  /** What we write from now on is known. */
  private toldUpTo(sheet: string, revision: string): void {
    this.own.set(sheet, { since: revision, now: revision })
  }

  async read(sheet: string, id: string, signal: AbortSignal): Promise<AppRecord | undefined> {
    // One after another is read of the same sheet.
    const { revision } = await this.page(sheet, { from: 2, most: 1, signal })
    const before = this.snapshots.get(sheet)
    const { header, rows } = before?.revision === revision ? before : await this.present(sheet, signal)
    const found = keyed(header, rows).find(({ key, row }) => (key ?? `row ${row.number}`) === id)
    return found && recordOf(header, found.row, id)
  }

  /** Every row gets a key: those that people have put in, and copies of others. */
  private async withKeys(
    sheet: string,
    signal: AbortSignal,
    { mayAdd }: { mayAdd: boolean },
  ): Promise<Snapshot> {
    for (let tries = 0; tries < MOST_TRIES; tries++) {
      const present = await this.present(sheet, signal)
      const { header, rows, revision } = present
      const column = header.indexOf(KEY_COLUMN)
      if (column < 0) {
        if (!mayAdd) throw this.withoutKeys(sheet)
        await this.addKeys(sheet, revision, signal)
        continue
      }
      const cells = keyed(header, rows).flatMap(({ key, row }) =>
        key === undefined ? [{ row: row.number, column, value: randomBytes(6).toString('hex') }] : [],
      )
      if (cells.length === 0) return present
      let of = revision
      for (let from = 0; from < cells.length; from += this.most) {
        const some = cells.slice(from, from + this.most)
        const written = await this.send(sheet, of, { cells: some, append: [], remove: [] }, signal)
        if (written === 'changed') break
        if (written.status >= 400)
          throw this.understood.refused(written, `keys for the rows of ${this.titleOf(sheet)}`)
        of = this.own.get(sheet)!.now
      }
    }
    throw this.busy(sheet)
  }

  private async addKeys(sheet: string, revision: string, signal: AbortSignal): Promise<void> {
    const { path, method = 'POST', body } = this.described.column
    const answer = await this.caller.call({
      method,
      path: withSheet(path, sheet),
      body: filled(body, { title: KEY_COLUMN }),
      headers: this.revisionHeader(revision),
      writes: true,
      signal,
    })
    if (answer.status >= 400 && !isChanged(answer))
      throw this.understood.refused(answer, `a column “${KEY_COLUMN}” for ${this.titleOf(sheet)}`)
  }

  /** All its rows would seem to be gone, and others to have come. */
  private withoutKeys(sheet: string): Failure {
    return new Failure(
      'structural',
      `The column “${KEY_COLUMN}” is gone from ${this.titleOf(sheet)} of ${this.app}, by which its rows are known.`,
      'Put it back there by undoing, and continue. If it cannot be had again, make the pipeline anew, and let the rows be paired by what stands in them.',
    )
  }

  /** What is made bears a key that follows from `once`, so that the same, told again, makes no other. */
  async write(
    sheet: string,
    operations: readonly WriteOperation[],
    { once, signal }: { once: string; signal: AbortSignal },
  ): Promise<WriteAnswer[]> {
    const keys = operations.map((_, n) => keyFor(once, n))
    return this.writeKeyed(sheet, operations, keys, signal)
  }

  private async writeKeyed(
    sheet: string,
    operations: readonly WriteOperation[],
    keys: readonly string[],
    signal: AbortSignal,
  ): Promise<WriteAnswer[]> {
    for (let tries = 0; tries < MOST_TRIES; tries++) {
      const present = await this.withKeys(sheet, signal, { mayAdd: false })
      const { writes, answers } = prepared(present, operations, keys)
      const isNothing = writes.cells.length + writes.append.length + writes.remove.length === 0
      if (isNothing) return answers
      const answer = await this.send(sheet, present.revision, writes, signal)
      if (answer === 'changed') continue
      if (answer.status >= 400) {
        const [only, ...more] = operations
        if (more.length === 0) return [refusedBy(answer, only!, answers[0]!)]
        // Which of them it is, is found by telling each alone.
        const each: WriteAnswer[] = []
        for (const [n, one] of operations.entries())
          each.push(...(await this.writeKeyed(sheet, [one], [keys[n]!], signal)))
        return each
      }
      const { header } = present
      const records = this.rowsIn(answer, this.described.write.items).map(row => {
        const key = keyed(header, [row])[0]?.key
        return [key, recordOf(header, row, key ?? '')] as const
      })
      const as = new Map(records)
      return answers.map(one =>
        one.answer === 'done' && one.id !== null && as.has(one.id)
          ? { ...one, record: as.get(one.id)! }
          : one,
      )
    }
    throw this.busy(sheet)
  }

  private async send(
    sheet: string,
    revision: string,
    { cells, append, remove }: Writes,
    signal: AbortSignal,
  ): Promise<Answer | 'changed'> {
    const { write } = this.described
    const { path, method = 'POST' } = write
    const lists: [string, unknown[]][] = [
      [write.cells, cells.map(one => filled(write.cell, { ...one }))],
      [write.append, append],
      [write.remove, remove],
    ]
    const body: unknown = Object.assign({}, ...lists.map(([pointer, list]) => placed(pointer, list)))
    const answer = await this.caller.call({
      method,
      path: withSheet(path, sheet),
      body,
      headers: this.revisionHeader(revision),
      writes: true,
      signal,
    })
    if (isChanged(answer)) return 'changed'
    const now = answer.status < 300 ? textOf(at(answer.body, write.revision)) : null
    if (now === null) return answer
    const own = this.own.get(sheet)
    this.own.set(sheet, { since: own?.now === revision ? own.since : revision, now })
    return answer
  }

  /** As it is now. */
  private async present(sheet: string, signal: AbortSignal): Promise<Snapshot> {
    const { most } = this.described.rows.size
    for (let tries = 0; tries < MOST_TRIES; tries++) {
      const first = await this.page(sheet, { from: 2, most, signal })
      const { revision, header } = first
      const rows = [...first.rows]
      let page = first
      while (page.rows.length === most && page.revision === revision) {
        page = await this.page(sheet, { from: rows.at(-1)!.number + 1, most, signal })
        rows.push(...page.rows)
      }
      if (page.revision !== revision) continue
      this.lookAt(sheet, header)
      const snapshot = { revision, header, rows: rows.filter(({ cells }) => cells.some(cell => cell !== '')) }
      this.snapshots.set(sheet, snapshot)
      return snapshot
    }
    throw this.busy(sheet)
  }

  private async page(
    sheet: string,
    { from, most, signal }: { from: number; most: number; signal: AbortSignal },
  ): Promise<Snapshot> {
    const { path, size, from: parameter, revision, header, items } = this.described.rows
    const answer = await this.caller.call({
      method: 'GET',
      path: withSheet(path, sheet),
      query: { [parameter]: String(from), [size.parameter]: String(most) },
      signal,
    })
    const what = `the rows of ${this.titleOf(sheet)}`
    const of = textOf(this.understood.at(answer, what, revision))
    const titles = at(answer.body, header)
    if (of === null) throw this.understood.otherwise(what, 'sheets.rows.revision')
    if (!Array.isArray(titles)) throw this.understood.otherwise(what, 'sheets.rows.header')
    return {
      revision: of,
      header: titles.map(one => (textOf(one) ?? '').trim()),
      rows: this.rowsIn(answer, items),
    }
  }

  private rowsIn({ body }: Answer, items: string): Row[] {
    const { number, cells } = this.described.rows
    const rows = at(body, items)
    if (!Array.isArray(rows)) throw this.understood.otherwise('rows', 'sheets.rows.items')
    return rows.map(row => {
      const values = at(row, cells)
      const of = Number(textOf(at(row, number)))
      if (!Array.isArray(values) || !Number.isSafeInteger(of))
        throw this.understood.otherwise('a row', 'sheets.rows')
      return { number: of, cells: values.map(one => textOf(one) ?? '') }
    })
  }

  /** Throws when columns are not there any more that somebody works with. */
  private lookAt(sheet: string, header: readonly string[]): void {
    if (header.includes(KEY_COLUMN)) this.haveKeys.add(sheet)
    else if (this.haveKeys.has(sheet)) throw this.withoutKeys(sheet)
    const there = columnsOf(header)
    const told = this.told.get(sheet) ?? []
    const gone = told.filter(one => !there.includes(one))
    if (gone.length === 0) return
    this.known = undefined
    const fresh = there.filter(one => !told.includes(one))
    const said = (names: string[]) => names.map(one => `“${one}”`).join(', ')
    throw new Failure(
      'structural',
      `The first row of ${this.titleOf(sheet)} of ${this.app} is another one: ${said(gone)} ${gone.length === 1 ? 'is' : 'are'} gone${fresh.length > 0 ? `, ${said(fresh)} new` : ''}.`,
      `Call ${gone.length === 1 ? 'the column' : 'the columns'} as before, or join others in the setup; then continue. Nothing was emptied.`,
    )
  }

  private titleOf(sheet: string): string {
    return `the sheet “${sheet}”`
  }

  private revisionHeader(revision: string): Record<string, string> {
    return { [this.described.write.header]: `"${revision}"` }
  }

  private busy(sheet: string): Failure {
    return new Failure(
      'transient',
      `People write in ${this.titleOf(sheet)} of ${this.app} without a pause.`,
      'It is tried again by itself.',
    )
  }
}

function refusedBy({ body }: Answer, operation: WriteOperation, answer: WriteAnswer): WriteAnswer {
  if (answer.answer !== 'done') return answer
  const { field } = Object(body) as { field?: unknown }
  const named = typeof field === 'string' && field in operation.values ? field : null
  return { answer: 'refused', field: named, reason: saidIn(body) }
}

function isChanged({ status }: Answer): boolean {
  return status === 412 || status === 409
}

function withSheet(path: string, sheet: string): string {
  return path.replaceAll('{id}', encodeURIComponent(sheet))
}
