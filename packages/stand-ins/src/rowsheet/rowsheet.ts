/** A stand-in spreadsheet: its interface for programs. Rows have numbers and nothing else by which they are known; whoever writes says of which revision. */
import { bodyParser } from '@koa/bodyparser'
import Router from '@koa/router'
import Koa from 'koa'
import { Gate } from '../apps/gate.ts'
import { NotTaken } from '../apps/not-taken.ts'
import { addColumn, rowOf, write, type Book, type SheetChange } from './book.ts'

export const ROWSHEET = {
  name: 'Rowsheet',
  what: 'the office’s spreadsheets',
  token: 'rowsheet-rowan-token',
  perMinute: 300,
}

const PAGE = 500

export class Rowsheet extends Gate {
  readonly book: Book

  constructor(book: Book, random: () => number = Math.random) {
    super(ROWSHEET, random)
    this.book = book
  }

  /** `server`: its address. */
  api(server: () => string): Koa {
    const app = new Koa()
    app.silent = true
    const router = new Router()
    router.get('/openapi.json', ctx => {
      ctx.body = documentOf(server())
    })
    router.get('/sheets', ctx => {
      ctx.body = {
        sheets: this.book.sheets.map(({ id, title, revision, rows }) => ({
          id,
          title,
          revision,
          rows: rows.length,
        })),
      }
    })
    router.get('/sheets/:id/rows', ctx => {
      const { revision, columns, rows } = this.book.sheet(ctx.params.id!)
      const from = Math.max(2, Number(ctx.query.from ?? 2) || 2)
      const limit = Math.min(PAGE, Math.max(1, Number(ctx.query.limit ?? PAGE) || PAGE))
      ctx.body = {
        revision,
        header: columns.map(({ title }) => title),
        total: rows.length,
        rows: rows.slice(from - 2, from - 2 + limit).map((cells, i) => ({ number: from + i, cells })),
      }
    })
    router.post('/sheets/:id/columns', ctx => {
      const { title, hidden } = Object(ctx.request.body) as Record<string, unknown>
      if (typeof title !== 'string' || title.trim() === '')
        throw new NotTaken(null, 'bad_request', 'A column has a title.')
      this.book.change(ctx.params.id!, revisionIn(ctx), sheet => addColumn(sheet, title, hidden === true))
      ctx.status = 201
      ctx.body = { revision: this.book.sheet(ctx.params.id!).revision }
    })
    router.post('/sheets/:id/write', ctx => {
      const id = ctx.params.id!
      const change = changeIn(ctx.request.body)
      const numbers = this.book.change(id, revisionIn(ctx), sheet => write(sheet, change))
      const sheet = this.book.sheet(id)
      ctx.body = {
        revision: sheet.revision,
        rows: numbers.map(number => ({ number, cells: rowOf(sheet, number) })),
      }
    })
    app.use((ctx, next) => this.answer(ctx, next))
    app.use(bodyParser({ enableTypes: ['json'], jsonLimit: '20mb' }))
    app.use(router.routes())
    return app
  }
}

function revisionIn(ctx: Koa.Context): number {
  const [, revision] = /^"(\d+)"$/.exec(ctx.get('If-Match')) ?? []
  if (revision !== undefined) return Number(revision)
  throw new NotTaken(null, 'bad_request', 'Say in If-Match of which revision the change is.')
}

function changeIn(body: unknown): SheetChange {
  const { cells = [], append = [], remove = [] } = Object(body) as Record<string, unknown>
  const isCell = (one: unknown) => {
    const { row, column, value } = Object(one) as Record<string, unknown>
    return Number.isInteger(row) && Number.isInteger(column) && typeof value === 'string'
  }
  const isRow = (one: unknown) => Array.isArray(one) && one.every(cell => typeof cell === 'string')
  if (
    Array.isArray(cells) &&
    cells.every(isCell) &&
    Array.isArray(append) &&
    append.every(isRow) &&
    Array.isArray(remove) &&
    remove.every(Number.isInteger)
  )
    return { cells, append, remove } as SheetChange
  throw new NotTaken(null, 'bad_request', 'Every value of a sheet is text; rows and columns are numbers.')
}

function documentOf(server: string): object {
  const answers = (description: string) => ({ responses: { 200: { description } } })
  return {
    openapi: '3.1.0',
    info: { title: `${ROWSHEET.name} (simulated)`, summary: ROWSHEET.what, version: '1' },
    servers: [{ url: server }],
    paths: {
      '/sheets': { get: answers('the sheets') },
      '/sheets/{id}/rows': { get: answers('a page of rows') },
      '/sheets/{id}/columns': { post: answers('the new revision') },
      '/sheets/{id}/write': { post: answers('the rows that were changed') },
    },
    components: { securitySchemes: { token: { type: 'http', scheme: 'bearer' } }, schemas: {} },
    security: [{ token: [] }],
  }
}
