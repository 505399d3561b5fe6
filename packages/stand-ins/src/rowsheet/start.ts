/** The spreadsheet with its screen, where it was left, and the office that works in it. */
import { join } from 'node:path'
import { CLUBS_THERE, clubNumber, contactOf } from '../apps/clubgate.ts'
import { anyOf, Colleagues, type ColleagueDeed } from '../apps/colleagues.ts'
import { portsIn, type AppAccess, type Ports } from '../apps/start.ts'
import { listen } from '../ports.ts'
import { Book, insertRow, sortBy, type Sheet } from './book.ts'
import { Rowsheet, ROWSHEET } from './rowsheet.ts'
import { createSheetScreen } from './screen.ts'

const columns = (...titles: string[]) => titles.map(title => ({ title, hidden: false }))

/** So many clubs the office keeps by hand. */
const KEPT = 14

export function officeSheets(): Sheet[] {
  const clubs = CLUBS_THERE.slice(0, KEPT)
  return [
    {
      id: 'clubs',
      title: 'Clubs',
      revision: 1,
      columns: columns('Club', 'Number', 'Telephone', 'Joined on'),
      rows: clubs.map((name, i) => [name, clubNumber(i), '', '']),
    },
    {
      id: 'members',
      title: 'Members',
      revision: 1,
      columns: columns('Name', 'E-mail', 'Telephone', 'Club', 'Part'),
      rows: clubs.flatMap((club, i) =>
        [0, 1].map(n => {
          const { name, email, role } = contactOf(i, n)
          return [name, email.toUpperCase(), `555-03${String(10 + 2 * i + n)}`, club, role]
        }),
      ),
    },
  ]
}

const MOST_ROWS = 120

/** The office: telephones are corrected, rows are put in between, and now and then somebody sorts. */
const office: readonly ColleagueDeed<Book>[] = [
  (book, random) => {
    book.change('members', undefined, sheet => {
      const row = anyOf(sheet.rows, random)
      const at = sheet.columns.findIndex(({ title }) => title === 'Telephone')
      if (row && at >= 0) row[at] = `555-03${String(10 + Math.floor(random() * 90))}`
    })
  },
  (book, random) => {
    book.change('members', undefined, sheet => {
      if (sheet.rows.length >= MOST_ROWS) return
      const club = Math.floor(random() * KEPT)
      const name = `${anyOf(['Gwen', 'Hugh', 'Iris', 'Jory'], random)} ${anyOf(['Larch', 'Maple', 'Nettle'], random)}`
      const email = `${name.toLowerCase().replace(' ', '.')}.${Math.floor(random() * 1000)}@example.org`
      const given: Record<string, string> = {
        Name: name,
        'E-mail': email,
        Club: CLUBS_THERE[club]!,
        Part: 'member',
      }
      insertRow(
        sheet,
        2 + Math.floor(random() * sheet.rows.length),
        sheet.columns.map(({ title }) => given[title] ?? ''),
      )
    })
  },
  (book, random) => {
    book.change('members', undefined, sheet => sortBy(sheet, random() < 0.5 ? 0 : 3))
  },
]

export async function startRowsheet(folder: string, wanted: Ports): Promise<AppAccess> {
  const ports = await portsIn(folder, wanted)
  const book = new Book(join(folder, 'sheets.json'), officeSheets)
  const app = new Rowsheet(book)
  new Colleagues(book, office).work = true
  const server = `http://127.0.0.1:${ports.api}`
  await listen(
    app.api(() => server),
    ports.api,
    ROWSHEET.name,
  )
  await listen(
    createSheetScreen(app, () => server),
    ports.screen,
    ROWSHEET.name,
  )
  return {
    name: ROWSHEET.name,
    kind: 'rowsheet',
    config: { server, token: ROWSHEET.token },
    screen: `http://127.0.0.1:${ports.screen}/`,
  }
}
