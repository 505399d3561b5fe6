/** The site's own small screen: its tables, and how busy its people are. Plain forms, no script. */
import { bodyParser } from '@koa/bodyparser'
import Router from '@koa/router'
import Koa from 'koa'
import type { Pool } from 'pg'
import type { Access } from '../postgres/socket-server.ts'
import { IDLE_TRANSACTION_MS } from '../postgres/socket-server.ts'
import type { Activity, Pace } from '../world/activity.ts'
import { guarded, safePath, STYLE } from './frame.ts'
import { html, type Markup } from './html.ts'
import { deleteRow, insertRow, listTables, PAGE, readRow, readRows, updateRow, type Table } from './tables.ts'

export interface ScreenParts {
  name: string
  pool: Pool
  activity: Activity
  setPace(pace: Pace): Promise<void>
  address: { host: string; port: number }
  access: Access
}

export function createScreen(parts: ScreenParts): Koa {
  const app = new Koa()
  const router = new Router()
  const page = async (ctx: Koa.Context, table: Table | undefined, body: Markup, error?: string) => {
    const tables = await listTables(parts.pool)
    ctx.type = 'html'
    ctx.body = layout(parts, tables, table, body, error).markup
  }
  const find = async (ctx: {
    params: Record<string, string | undefined>
    throw(status: number, text: string): never
  }): Promise<Table> => {
    const { namespace, name } = ctx.params
    const table = (await listTables(parts.pool)).find(one => one.namespace === namespace && one.name === name)
    return table ?? ctx.throw(404, 'There is no such table.')
  }

  router.get('/', async ctx => {
    ctx.redirect('/nursery/batches')
  })
  router.post('/activity', async ctx => {
    const { pace, burst, back } = ctx.request.body as Record<string, string>
    if (burst) void parts.activity.burst(Math.min(100_000, Number(burst) || 0)).catch(() => {})
    else await parts.setPace(pace as Pace)
    ctx.redirect(safePath(back))
  })
  router.get('/:namespace/:name', async ctx => {
    const table = await find(ctx)
    const text = String(ctx.query.find ?? '')
    const number = Math.max(0, Number(ctx.query.page) || 0)
    const rows = await readRows(parts.pool, table, text, number)
    await page(ctx, table, rowsPage(table, rows, text, number))
  })
  router.get('/:namespace/:name/new', async ctx => {
    const table = await find(ctx)
    await page(ctx, table, rowForm(table, {}, 'Insert the row'))
  })
  router.get('/:namespace/:name/row', async ctx => {
    const table = await find(ctx)
    const row = await readRow(parts.pool, table, String(ctx.query.ctid))
    await page(
      ctx,
      table,
      row ? rowForm(table, row, 'Save the row') : html`<p>The row was changed meanwhile.</p>`,
    )
  })
  const writing = (
    path: string,
    write: (table: Table, ctid: string, form: Record<string, string>) => Promise<void>,
  ) =>
    router.post(`/:namespace/:name/${path}`, async ctx => {
      const table = await find(ctx)
      const form = ctx.request.body as Record<string, string>
      try {
        await write(table, String(ctx.query.ctid), form)
        ctx.redirect(addressOf(table))
      } catch (error) {
        ctx.status = 422
        await page(ctx, table, rowForm(table, form, 'Try again'), (error as Error).message)
      }
    })
  writing('new', (table, _ctid, form) => insertRow(parts.pool, table, form))
  writing('row', (table, ctid, form) => updateRow(parts.pool, table, ctid, form))
  writing('delete', (table, ctid) => deleteRow(parts.pool, table, ctid))

  app.silent = true
  app.use(guarded)
  app.use(bodyParser({ enableTypes: ['form'], formLimit: '8mb' }))
  app.use(router.routes())
  return app
}

function addressOf(table: Table): string {
  return `/${encodeURIComponent(table.namespace)}/${encodeURIComponent(table.name)}`
}

function layout(
  parts: ScreenParts,
  tables: Table[],
  open: Table | undefined,
  body: Markup,
  error?: string,
): Markup {
  const { name, activity, address, access } = parts
  const back = open ? addressOf(open) : '/'
  const namespaces = [...new Set(tables.map(table => table.namespace))]
  const pace = (value: Pace) =>
    html`<button name="pace" value="${value}" aria-pressed="${String(activity.pace === value)}">
      ${value}
    </button> `
  return html`<!doctype html>
    <html lang="en">
      <head>
        <meta charset="utf-8" />
        <title>${name} (simulated)</title>
        <style>
          ${{ markup: STYLE }}
        </style>
      </head>
      <body>
        <header>
          <a href="/">${name}</a><span>site database of Osier Valley Growers</span
          ><span class="mark">simulated</span>
        </header>
        <main>
          <nav aria-label="Tables">
            ${namespaces.map(
              namespace =>
                html`<h2>${namespace}</h2>
                  ${tables
                    .filter(table => table.namespace === namespace)
                    .map(
                      table =>
                        html`<a
                          href="${addressOf(table)}"
                          ${table.name === open?.name ? { markup: ' aria-current="page"' } : null}
                          >${table.name}</a
                        >`,
                    )}`,
            )}
            <h2>Reach it with a client</h2>
            <p>
              ${address.host}:${address.port}, database ${access.database}, user ${access.user}, password
              ${access.password}. It has one session: a transaction left idle for
              ${IDLE_TRANSACTION_MS / 1000} s is cut off, because others wait for it.
            </p>
          </nav>
          <section>
            <form method="post" action="/activity">
              <fieldset>
                <legend>Activity of its people and sensors</legend>
                <input type="hidden" name="back" value="${back}" />
                ${pace('off')}${pace('gentle')}${pace('brisk')} &nbsp;
                <label
                  >burst of <input name="burst" size="6" inputmode="numeric" form="burst" value="500"
                /></label>
                <button form="burst">transactions</button> &nbsp; ${activity.made.toLocaleString('en')}
                transactions since its start
              </fieldset>
            </form>
            <form id="burst" method="post" action="/activity">
              <input type="hidden" name="back" value="${back}" />
            </form>
            ${error ? html`<p class="error" role="alert">${error}</p>` : null}${body}
          </section>
        </main>
      </body>
    </html>`
}

function rowsPage(table: Table, rows: Record<string, string | null>[], find: string, page: number): Markup {
  const at = addressOf(table)
  const link = (to: number) => `${at}?find=${encodeURIComponent(find)}&page=${to}`
  return html`<h1>${table.name}</h1>
    <form method="get" action="${at}">
      <input name="find" aria-label="Find in rows" value="${find}" placeholder="Find in rows" />
      <button>Find</button> <a href="${at}/new">Insert a row</a>
    </form>
    <div class="scroll">
      <table>
        <thead>
          <tr>
            <th></th>
            ${table.columns.map(({ name }) => html`<th>${name}</th>`)}
          </tr>
        </thead>
        <tbody>
          ${rows.map(
            row =>
              html`<tr>
                <td>
                  <a href="${at}/row?ctid=${encodeURIComponent(row.ctid!)}">Edit</a>
                  <form
                    class="inline"
                    method="post"
                    action="${at}/delete?ctid=${encodeURIComponent(row.ctid!)}"
                  >
                    <button>Delete</button>
                  </form>
                </td>
                ${table.columns.map(({ name }) => html`<td>${row[name] ?? html`<span class="null">null</span>`}</td>`)}
              </tr>`,
          )}
        </tbody>
      </table>
    </div>
    <p>
      ${page > 0 ? html`<a href="${link(page - 1)}">Newer</a> ` : null}${rows.length === PAGE ? html`<a href="${link(page + 1)}">Older</a>` : null}
    </p>`
}

function rowForm(table: Table, row: Record<string, string | null>, verb: string): Markup {
  return html`<h1>${table.name}</h1>
    <form class="row" method="post">
      ${table.columns.map(
        ({ name, type, nullable }) =>
          html`<label for="${name}"
              >${name}<br /><small>${type}${nullable ? ', may be empty' : null}</small></label
            >
            <textarea id="${name}" name="${name}" rows="1">${row[name] ?? ''}</textarea>`,
      )}<span></span><button>${verb}</button>
    </form>`
}
