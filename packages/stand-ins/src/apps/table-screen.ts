/** Where people make tables and fields of their own on a stand-in app's screen, and take fields away. */
import type Router from '@koa/router'
import type Koa from 'koa'
import { html, type Markup } from '../screen/html.ts'
import type { StandInApp } from './app.ts'
import type { StandInObject } from './definition.ts'
import { NotTaken } from './not-taken.ts'
import { MADE_TYPE_NAMES } from './tables.ts'

export function tableDeeds(
  router: Router,
  { records: { tables } }: StandInApp,
  show: (ctx: Koa.Context, body: Markup) => void,
): void {
  const tried = (ctx: Koa.Context, deed: () => string) => {
    try {
      ctx.redirect(deed())
    } catch (thrown) {
      if (!(thrown instanceof NotTaken)) throw thrown
      ctx.status = 422
      show(ctx, html`<p class="error">${thrown.message}</p>`)
    }
  }
  router.get('/tables/new', ctx =>
    show(
      ctx,
      html`<h1>A new table</h1>
        <form class="row" method="post" action="/tables/new">
          <label for="title">Title</label><input id="title" name="title" /> <span></span>
          <span><button>Make it</button></span>
        </form>`,
    ),
  )
  router.post('/tables/new', ctx =>
    tried(ctx, () => {
      const { title } = ctx.request.body as Record<string, string>
      return `/${tables.makeTable({ title, fields: [{ title: 'Name', type: 'text' }] }).name}`
    }),
  )
  router.post('/tables/:object/fields', ctx =>
    tried(ctx, () => {
      const { title, type = '', choices = '', without } = ctx.request.body as Record<string, string>
      const { object } = ctx.params
      if (without === undefined)
        tables.makeField(object, { title, type, choices: choices.split(',').map(one => one.trim()) })
      else tables.removeField(object, without)
      return `/${object}`
    }),
  )
}

export function fieldForms({ name: table, fields }: StandInObject): Markup {
  return html`<h2>Fields</h2>
    <form class="row" method="post" action="/tables/${table}/fields">
      <label for="title">A new field</label><input id="title" name="title" />
      <label for="type">Type</label>
      <select id="type" name="type">
        ${MADE_TYPE_NAMES.map(name => html`<option>${name}</option>`)}
      </select>
      <label for="choices">Choices, with commas between them</label><input id="choices" name="choices" />
      <span></span><span><button>Add the field</button></span>
    </form>
    <form class="row" method="post" action="/tables/${table}/fields">
      <label for="without">A field</label>
      <select id="without" name="without" aria-label="A field that goes">
        ${Object.entries(fields).map(
          ([name, { title, required }]) =>
            !required && html`<option value="${name}">${title ?? name}</option>`,
        )}
      </select>
      <span></span><span><button>Take the field away</button></span>
    </form>`
}
