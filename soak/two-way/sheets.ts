/**
 * Kills what keeps an app and a sheet in step anywhere, and lets both fail as apps do, while people write on both sides, sort the sheet and put rows in
 * between; then each record is on both sides once, both say the same, and no edit is gone that nobody has replaced.
 */
import { once } from 'node:events'
import { mkdtempSync, rmSync } from 'node:fs'
import type { Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type Koa from 'koa'
import { StandInApp } from '../../packages/stand-ins/src/apps/app.ts'
import { clubgateApp } from '../../packages/stand-ins/src/apps/clubgate.ts'
import type { StandInRecord } from '../../packages/stand-ins/src/apps/definition.ts'
import { NO_APP_FAULTS } from '../../packages/stand-ins/src/apps/faults.ts'
import { NotTaken } from '../../packages/stand-ins/src/apps/not-taken.ts'
import { Records } from '../../packages/stand-ins/src/apps/records.ts'
import { Book, insertRow, sortBy, type Sheet } from '../../packages/stand-ins/src/rowsheet/book.ts'
import { Rowsheet, ROWSHEET } from '../../packages/stand-ins/src/rowsheet/rowsheet.ts'
import type { Random } from '../random.ts'
import {
  appTrouble,
  course,
  Findings,
  sleep,
  type Faulted,
  type Looked,
  type People as Working,
} from './course.ts'
import { Syncers } from './syncers.ts'

const MOST_STANDING = 60
const PARTS = ['chair', 'treasurer', 'grower', 'member']
const WORDS = ['wet', '=1+1', 'größer', 'null', "it's", 'a\tb', '🌱', '{}', '“1”', '007']
const COLUMNS = ['Name', 'E-mail', 'Telephone', 'Part']
const CONTACTS = clubgateApp.objects.find(({ name }) => name === 'contacts')!

export async function sheetFaults(faults: number, random: Random): Promise<Faulted> {
  const place = mkdtempSync(join(tmpdir(), 'constant-tide-two-way-sheets-'))
  const chance = () => random.below(1000) / 1000
  const app = new StandInApp(
    { ...clubgateApp, perMinute: 0 },
    new Records(clubgateApp, join(place, 'a.jsonl'), () => {}),
    chance,
  )
  const columns = COLUMNS.map(title => ({ title, hidden: false }))
  const empty: Sheet = { id: 'members', title: 'Members', revision: 1, columns, rows: [] }
  const rowsheet = new Rowsheet(new Book(join(place, 'b.json'), () => [empty]), chance)
  rowsheet.perMinute = 0
  const listening: Server[] = []
  const listened = async (api: (server: () => string) => Koa): Promise<string> => {
    let server = ''
    const one = api(() => server).listen(0, '127.0.0.1')
    listening.push(one)
    await once(one, 'listening')
    server = `http://127.0.0.1:${(one.address() as AddressInfo).port}`
    return server
  }
  const a = { server: await listened(server => app.api(server)), token: clubgateApp.token }
  const b = { server: await listened(server => rowsheet.api(server)), token: ROWSHEET.token }
  const syncers = new Syncers({ world: 'sheets', folder: join(place, 'store'), connections: { a, b } })
  try {
    return await course(faults, {
      syncers,
      people: new People(app, rowsheet, random),
      calm: () => {
        for (const one of [app, rowsheet]) one.faults = { ...NO_APP_FAULTS }
      },
      trouble: async () => {
        for (const one of [app, rowsheet]) one.faults = { ...NO_APP_FAULTS, ...appTrouble(random) }
        await sleep(random.below(2000))
        return random.below(2) === 0
      },
    })
  } finally {
    for (const one of listening) {
      one.closeAllConnections()
      one.close()
    }
    rmSync(place, { recursive: true, force: true })
  }
}

class People implements Working {
  edits = 0
  private readonly app: StandInApp
  private readonly rowsheet: Rowsheet
  private readonly random: Random
  /** By e-mail: what the club wrote last as the name, and the office as the part. */
  private readonly names = new Map<string, string>()
  private readonly parts = new Map<string, string>()

  constructor(app: StandInApp, rowsheet: Rowsheet, random: Random) {
    this.app = app
    this.rowsheet = rowsheet
    this.random = random
  }

  async work(signal: AbortSignal): Promise<void> {
    while (!signal.aborted) {
      try {
        this.once()
      } catch (thrown) {
        if (!(thrown instanceof NotTaken)) throw thrown
      }
      await sleep(this.random.below(120))
    }
  }

  private get sheet(): Sheet {
    return this.rowsheet.book.sheet('members')
  }

  private edit(act: (sheet: Sheet) => void): void {
    this.rowsheet.book.change('members', undefined, act)
    this.edits++
  }

  private once(): void {
    const { random, app } = this
    const word = () => `${random.pick(WORDS)} ${random.hex(3)}`
    const email = `${random.hex(8)}@example.org`
    const contacts = app.records.of('contacts')
    const { rows } = this.sheet
    const contact = contacts.length > 0 ? random.pick(contacts) : undefined
    const row = rows.length > 0 ? random.below(rows.length) : undefined
    switch (random.below(12)) {
      case 0:
      case 1:
        if (contacts.length >= MOST_STANDING) return
        app.records.create(CONTACTS, { name: word(), email, role: 'member' })
        this.edits++
        return
      case 2:
      case 3:
        if (rows.length >= MOST_STANDING) return
        return this.edit(sheet =>
          insertRow(sheet, 2 + random.below(rows.length + 1), [`Member ${word()}`, email, '', 'member']),
        )
      case 4:
        return this.edit(sheet => sortBy(sheet, random.below(COLUMNS.length)))
      case 5:
        if (!contact || random.below(3) > 0) return
        app.records.remove(CONTACTS, contact.id)
        this.edits++
        return
      case 6:
        if (row === undefined || random.below(3) > 0) return
        return this.edit(sheet => void sheet.rows.splice(row, 1))
      case 7:
      case 8:
        return this.rename(contact, word())
      case 9:
        if (contact) app.records.change(CONTACTS, contact.id, { telephone: word() })
        if (contact) this.edits++
        return
      case 10:
        if (row !== undefined) this.edit(sheet => void (sheet.rows[row]![2] = word()))
        return
      default:
        if (row === undefined) return
        this.parts.set(rows[row]![1]!, random.pick(PARTS))
        return this.edit(sheet => void (sheet.rows[row]![3] = this.parts.get(rows[row]![1]!)!))
    }
  }

  private rename(contact: StandInRecord | undefined, name: string): void {
    if (!contact) return
    this.app.records.change(CONTACTS, contact.id, { name })
    this.names.set(String(contact.email), String(this.app.records.get('contacts', contact.id)!.name))
    this.edits++
  }

  writes(): string {
    const ours = [this.app, this.rowsheet].map(({ calls }) => calls.filter(({ method }) => method !== 'GET'))
    return JSON.stringify([ours.map(calls => [calls.length, calls.at(-1)?.at]), this.sheet.revision])
  }

  looked(): Looked {
    const findings = new Findings()
    const rows = new Map<string, string[][]>()
    for (const row of this.sheet.rows) rows.set(row[1]!, [...(rows.get(row[1]!) ?? []), row])
    for (const contact of this.app.records.of('contacts')) {
      const email = String(contact.email)
      const its = rows.get(email) ?? []
      rows.delete(email)
      if (its.length === 0) findings.add('lost', `${email} has no row`)
      if (its.length > 1) findings.add('doubled', `${email} has ${its.length} rows`)
      const [row] = its
      if (!row) continue
      findings.found.pairs++
      const says = [contact.name, contact.email, contact.telephone ?? '', contact.role ?? '']
      for (const [i, column] of COLUMNS.entries())
        if (says[i] !== row[i])
          findings.add(
            'different',
            `${email}: ${column} ${JSON.stringify(says[i])} ${JSON.stringify(row[i])}`,
          )
      for (const [what, written, is] of [
        ['name', this.names.get(email), row[0]],
        ['part', this.parts.get(email), contact.role],
      ])
        if (written !== undefined && written !== is)
          findings.add(
            'different',
            `${email}: the ${what} ${JSON.stringify(written)} is ${JSON.stringify(is)}`,
          )
    }
    for (const [email, its] of rows)
      findings.add(its.length > 1 ? 'doubled' : 'lost', `${email} is in the sheet alone, ${its.length} times`)
    return findings.found
  }
}
