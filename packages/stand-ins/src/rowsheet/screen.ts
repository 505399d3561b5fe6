/** The spreadsheet's own small screen: people write in cells, put rows in between, sort, rename and take columns away. */
import { bodyParser } from '@koa/bodyparser'
import Router from '@koa/router'
import Koa from 'koa'
import { NO_APP_FAULTS, type AppFaults } from '../apps/faults.ts'
import { NotTaken } from '../apps/not-taken.ts'
import { guarded } from '../screen/frame.ts'
import { html, type Markup } from '../screen/html.ts'
import { standInPage } from '../screen/page.ts'
import { addColumn, insertRow, removeColumn, sortBy, write, type Sheet } from './book.ts'
import { ROWSHEET, type Rowsheet } from './rowsheet.ts'

const MOST_SHOWN = 100

const STATES: { title: string; faults: Partial<AppFaults> }[] = [
  { title: 'well', faults: {} },
  { title: 'slow', faults: { slowMs: 2000 } },
  { title: 'failing', faults: { failing: 0.3 } },
  { title: 'loses answers', faults: { lost: 0.3 } },
  { title: 'busy', faults: { busy: 0.5 } },
  { title: 'knows no token', faults: { expired: true } },
]

type Form = Record<string, string>

/** What a button of a sheet's page does. */
const DEEDS: Record<string, (sheet: Sheet, form: Form) => void> = {
  save: (sheet, { row, ...cells }) => {
    const written = Object.entries(cells).flatMap(([name, value]) => {
      const [, column] = /^c(\d+)$/.exec(name) ?? []
      return column === undefined ? [] : [{ row: Number(row), column: Number(column), value }]
    })
    write(sheet, { cells: written, append: [], remove: [] })
  },
  'insert a row above': (sheet, { row }) => insertRow(sheet, Number(row)),
  'delete the row': (sheet, { row }) => void write(sheet, { cells: [], append: [], remove: [Number(row)] }),
  'add a row': sheet => void write(sheet, { cells: [], append: [[]], remove: [] }),
  sort: (sheet, { column }) => sortBy(sheet, Number(column)),
  rename: (sheet, { column, title }) => {
    const found = sheet.columns[Number(column)]
    if (found) found.title = title ?? ''
  },
  'delete the column': (sheet, { column }) => removeColumn(sheet, Number(column)),
  'add a column': (sheet, { title }) => addColumn(sheet, title ?? '', false),
}

/** `address`: of its interface for programs. */
export function createSheetScreen(app: Rowsheet, address: () => string): Koa {
  const koa = new Koa()
  const router = new Router()
  const { book } = app
  const show = (ctx: Koa.Context, body: Markup) => {
    ctx.type = 'html'
    ctx.body = standInPage({
      name: ROWSHEET.name,
      what: ROWSHEET.what,
      nav: html`${book.sheets.map(({ id, title }) => html`<a href="/${id}">${title}</a>`)}
        <h2>For programs</h2>
        <p>${address()}, token ${ROWSHEET.token}; ${app.perMinute} requests a minute.</p>`,
      legend: 'The app is',
      states: STATES,
      none: NO_APP_FAULTS,
      present: app.faults,
      body,
    }).markup
  }
  router.get('/', ctx => ctx.redirect(`/${book.sheets[0]!.id}`))
  router.post('/faults', ctx => {
    const { state } = ctx.request.body as Form
    const found = STATES.find(({ title }) => title === state)
    if (found) app.faults = { ...NO_APP_FAULTS, ...found.faults }
    ctx.redirect('/')
  })
  router.get('/:sheet', ctx => {
    if (!book.sheets.some(({ id }) => id === ctx.params.sheet)) ctx.throw(404, 'There is no such sheet.')
    show(ctx, sheetPage(book.sheet(ctx.params.sheet!), Number(ctx.query.row ?? 0)))
  })
  router.post('/:sheet', ctx => {
    const { deed = '', ...form } = ctx.request.body as Form
    const act = Object.hasOwn(DEEDS, deed) ? DEEDS[deed] : undefined
    try {
      if (act) book.change(ctx.params.sheet!, undefined, sheet => act(sheet, form))
      ctx.redirect(`/${ctx.params.sheet}`)
    } catch (thrown) {
      if (!(thrown instanceof NotTaken)) throw thrown
      ctx.status = 422
      show(ctx, html`<p class="error">${thrown.message}</p>`)
    }
  })
  koa.silent = true
  koa.use(guarded)
  koa.use(bodyParser({ enableTypes: ['form'] }))
  koa.use(router.routes())
  return koa
}

/** `open`: the number of the row that is written in. */
function sheetPage(sheet: Sheet, open: number): Markup {
  const { id, title, columns, rows, revision } = sheet
  const deed = (name: string, more: Markup) =>
    html`<form method="post" action="/${id}">
      ${more}<button name="deed" value="${name}">${name}</button>
    </form>`
  const hidden = (name: string, value: number) =>
    html`<input type="hidden" name="${name}" value="${String(value)}" />`
  return html`<h1>${title}</h1>
    <p>${rows.length} rows, revision ${revision}</p>
    ${open > 0 && rows[open - 2] ? rowForm(sheet, open) : deed('add a row', html``)}
    <div class="scroll">
      <table>
        <tr>
          <th></th>
          ${columns.map(
            (column, i) =>
              html`<th>
                ${column.title}${column.hidden && html` <span class="null">hidden</span>`}
                ${deed('sort', hidden('column', i))}
                ${deed(
                  'rename',
                  html`${hidden('column', i)}<input
                      aria-label="Title of column ${i + 1}"
                      name="title"
                      value="${column.title}"
                      size="8"
                    />`,
                )}
                ${deed('delete the column', hidden('column', i))}
              </th>`,
          )}
        </tr>
        ${rows.slice(0, MOST_SHOWN).map(
          (cells, i) =>
            html`<tr>
              <td><a href="/${id}?row=${i + 2}">${i + 2}</a></td>
              ${cells.map(cell => html`<td>${cell}</td>`)}
            </tr>`,
        )}
      </table>
    </div>
    ${rows.length > MOST_SHOWN && html`<p>and ${rows.length - MOST_SHOWN} more</p>`}
    ${deed('add a column', html`<input aria-label="Title of the column" name="title" />`)}`
}

function rowForm({ id, columns, rows }: Sheet, open: number): Markup {
  return html`<h2>Row ${open}</h2>
    <form class="row" method="post" action="/${id}">
      <input type="hidden" name="row" value="${String(open)}" />
      ${columns.map(
        ({ title }, i) =>
          html`<label for="c${i}">${title}</label>
            <input id="c${i}" name="c${i}" value="${rows[open - 2]![i]}" />`,
      )}
      <span></span>
      <span>
        ${['save', 'insert a row above', 'delete the row'].map(
          deed => html`<button name="deed" value="${deed}">${deed}</button> `,
        )}
      </span>
    </form>`
}
