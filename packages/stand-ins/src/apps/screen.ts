/** A stand-in app's own small screen: its records, for people to see and to edit, and what goes wrong with it. */
import { bodyParser } from '@koa/bodyparser'
import Router from '@koa/router'
import Koa from 'koa'
import { guarded } from '../screen/frame.ts'
import { html, type Markup } from '../screen/html.ts'
import { standInPage } from '../screen/page.ts'
import type { StandInApp } from './app.ts'
import type { Colleagues } from './colleagues.ts'
import { fieldForms, tableDeeds } from './table-screen.ts'
import type { JsonValue, StandInField, StandInObject, StandInRecord } from './definition.ts'
import { NO_APP_FAULTS, type AppFaults } from './faults.ts'
import { NotTaken } from './not-taken.ts'

const MOST_SHOWN = 200
/** Who works at the screen. */
const SOMEBODY = 'u.wren@example.org'

const STATES: { title: string; faults: Partial<AppFaults> }[] = [
  { title: 'well', faults: {} },
  { title: 'slow', faults: { slowMs: 2000 } },
  { title: 'failing', faults: { failing: 0.3 } },
  { title: 'loses answers', faults: { lost: 0.3 } },
  { title: 'busy', faults: { busy: 0.5 } },
  { title: 'knows no token', faults: { expired: true } },
  { title: 'behind a page', faults: { html: true } },
  { title: 'calls nobody', faults: { hooksLost: 1 } },
  { title: 'calls twice, and late', faults: { hooksTwice: 1, hooksLateMs: 5000 } },
]

/** `address`: of its interface for programs. `colleagues`: those who work in it of their own accord. */
export function createAppScreen(app: StandInApp, address: () => string, colleagues?: Colleagues): Koa {
  const { definition, records } = app
  const koa = new Koa()
  const router = new Router()
  const objectOf = (name: string | undefined) => definition.objects.find(one => one.name === name)
  const show = (ctx: Koa.Context, body: Markup) => {
    ctx.type = 'html'
    ctx.body = page(app, address(), body, colleagues).markup
  }
  router.get('/', ctx => ctx.redirect(`/${definition.objects[0]!.name}`))
  router.get('/calls', ctx => show(ctx, calls(app)))
  router.post('/faults', ctx => {
    const { state } = ctx.request.body as Record<string, string>
    const found = STATES.find(({ title }) => title === state)
    if (found) app.faults = { ...NO_APP_FAULTS, ...found.faults }
    ctx.redirect('/')
  })
  router.post('/colleagues', ctx => {
    if (colleagues) colleagues.work = !colleagues.work
    ctx.redirect('/')
  })
  if (definition.tables) tableDeeds(router, app, show)
  router.get('/:object', ctx => {
    const object = objectOf(ctx.params.object)
    if (!object) ctx.throw(404, 'There is no such object.')
    show(
      ctx,
      html`${list(app, object!, String(ctx.query.find ?? ''))}
      ${definition.tables && !object!.view && !object!.remarks && fieldForms(object!)}`,
    )
  })
  router.post('/:object', ctx => {
    const object = objectOf(ctx.params.object)
    if (!object || object.view) ctx.throw(404, 'There is no such object.')
    const given = ctx.request.body as Record<string, string>
    try {
      const made = records.create(object!, typed(object!, given), SOMEBODY)
      const { remarks } = object!
      const of = remarks && object!.fields[remarks.field]!.refers
      ctx.redirect(of ? `/${of}/${String(made[remarks.field])}` : `/${object!.name}/${made.id}`)
    } catch (thrown) {
      if (!(thrown instanceof NotTaken)) throw thrown
      ctx.status = 422
      show(ctx, html`<p class="error">${thrown.message}</p>`)
    }
  })
  router.get('/:object/new', ctx => {
    const object = objectOf(ctx.params.object)
    if (!object || object.view) ctx.throw(404, 'There is no such object.')
    show(ctx, form(object!, undefined))
  })
  router.get('/:object/:id', ctx => {
    const object = objectOf(ctx.params.object)
    const record = object && records.get(object.name, ctx.params.id!)
    if (!object || !record) ctx.throw(404, 'There is no such record.')
    show(
      ctx,
      html`${form(object!, records.shown(object!, record!))}
      ${definition.objects.map(other => remarks(app, other, object!.name, record!.id))}`,
    )
  })
  router.post('/:object/:id', ctx => {
    const object = objectOf(ctx.params.object)
    if (!object) ctx.throw(404, 'There is no such object.')
    const { deed, ...given } = ctx.request.body as Record<string, string>
    const id = ctx.params.id!
    try {
      if (deed === 'delete') records.remove(object!, id)
      else records.change(object!, id, typed(object!, given))
      ctx.redirect(deed === 'delete' ? `/${object!.name}` : `/${object!.name}/${id}`)
    } catch (thrown) {
      if (!(thrown instanceof NotTaken)) throw thrown
      ctx.status = 422
      const record = records.get(object!.name, id)
      if (!record) ctx.throw(404, 'There is no such record.')
      show(
        ctx,
        html`<p class="error">${thrown.message}</p>
          ${form(object!, { ...records.shown(object!, record!), ...given })}`,
      )
    }
  })
  koa.silent = true
  koa.use(guarded)
  koa.use(bodyParser({ enableTypes: ['form'] }))
  koa.use(router.routes())
  return koa
}

/** A form's texts as the fields' own types. */
function typed(object: StandInObject, given: Record<string, string>): Record<string, JsonValue> {
  return Object.fromEntries(
    Object.entries(given).flatMap(([name, text]) => {
      const field = object.fields[name]
      return field ? [[name, valueOf(field, text)]] : []
    }),
  )
}

function valueOf({ type }: StandInField, text: string): JsonValue {
  if (type === 'array') return text.split(',')
  if (text === '') return null
  if (type === 'boolean') return text === 'true'
  return type === 'string' ? text : Number(text)
}

function page(app: StandInApp, address: string, body: Markup, colleagues: Colleagues | undefined): Markup {
  const { definition, faults, records } = app
  return standInPage({
    name: definition.name,
    what: definition.what,
    nav: html`${definition.objects.map(
        ({ name }) => html`<a href="/${name}">${name}, ${records.of(name).length}</a>`,
      )}
      ${definition.tables && html`<a href="/tables/new">make a table</a>`}
      <a href="/calls">calls</a>
      <h2>For programs</h2>
      <p>${address}, token ${definition.token}; ${app.perMinute} requests a minute.</p>
      ${definition.calls && html`<p>It calls ${app.webhooks.count} addresses when records change.</p>`}
      ${
        colleagues &&
        html`<h2>Colleagues</h2>
          <form method="post" action="/colleagues">
            <p>${colleagues.work ? 'They work in it.' : 'They rest.'}</p>
            <button>${colleagues.work ? 'Let them rest' : 'Let them work'}</button>
          </form>`
      }`,
    legend: 'The app is',
    states: STATES,
    none: NO_APP_FAULTS,
    present: faults,
    body,
  })
}

const text = (value: JsonValue) =>
  value === null ? '' : Array.isArray(value) ? value.join(', ') : String(value)

const said = (value: JsonValue | undefined) =>
  value === null || value === undefined || text(value) === ''
    ? html`<span class="null">none</span>`
    : text(value)

function list({ records }: StandInApp, object: StandInObject, find: string): Markup {
  const names = ['id', ...Object.keys(object.fields)]
  const wanted = find.toLowerCase()
  const found = records
    .of(object.name)
    .filter(record => JSON.stringify(record).toLowerCase().includes(wanted))
  // Those that were written last are what people look for.
  const shown = found
    .toSorted((a, b) => String(b.updated_at).localeCompare(String(a.updated_at)))
    .slice(0, MOST_SHOWN)
  return html`<h1>${object.name}</h1>
    <form>
      <label>Find <input name="find" value="${find}" /></label> <button>Find</button>
    </form>
    ${!object.view && html`<p><a href="/${object.name}/new">Make a new one</a></p>`}
    <p>
      ${found.length} records${found.length > MOST_SHOWN && html`, the ${MOST_SHOWN} that were written last`}
    </p>
    <div class="scroll">
      <table>
        <tr>
          ${names.map(name => html`<th>${name}</th>`)}
        </tr>
        ${shown.map(record => {
          const whole = records.shown(object, record)
          return html`<tr>
            ${names.map((name, i) =>
              i === 0
                ? html`<td><a href="/${object.name}/${record.id}">${record.id}</a></td>`
                : html`<td>${said(whole[name])}</td>`,
            )}
          </tr>`
        })}
      </table>
    </div>`
}

/** `record`: undefined for one that is to be made. */
function form(object: StandInObject, record: StandInRecord | undefined): Markup {
  return html`<h1>${record ? `${object.schema} ${record.id}` : `A new ${object.schema}`}</h1>
    <form class="row" method="post" action="/${object.name}${record ? `/${record.id}` : ''}">
      ${Object.entries(object.fields).map(([name, field]) => {
        const value = record?.[name] ?? null
        if (field.readOnly || field.computed || field.maker || object.view)
          return record && html`<span>${field.title ?? name}</span><span>${said(value)}</span>`
        return html`<label for="${name}">${field.title ?? name}</label>
          <input id="${name}" name="${name}" value="${text(value)}" />`
      })}
      <span></span>
      ${
        object.view
          ? html`<span>Nobody can write in a view.</span>`
          : record
            ? html`<span><button>Save</button> <button name="deed" value="delete">Delete</button></span>`
            : html`<span><button>Make it</button></span>`
      }
    </form>
    ${record && html`<p>Changed ${said(record.updated_at)}</p>`}`
}

/** What was said of a record, and a place to say something. */
function remarks({ records }: StandInApp, object: StandInObject, of: string, id: string): Markup | undefined {
  const { field, body } = object.remarks ?? {}
  if (field === undefined || body === undefined || object.fields[field]!.refers !== of) return undefined
  const said = records.of(object.name).filter(one => one[field] === id)
  return html`<h2>${object.name}</h2>
    ${said.map(one => html`<p><a href="/${object.name}/${one.id}">${one.author}</a>: ${one[body]}</p>`)}
    <form class="row" method="post" action="/${object.name}">
      <input type="hidden" name="${field}" value="${id}" />
      <label for="${body}">${object.fields[body]!.title}</label>
      <input id="${body}" name="${body}" />
      <span></span><span><button>Say it</button></span>
    </form>`
}

function calls({ calls }: StandInApp): Markup {
  return html`<h1>Calls</h1>
    <table>
      ${calls.toReversed().map(
        ({ at, method, path, status }) =>
          html`<tr>
            <td>${at}</td>
            <td>${method} ${path}</td>
            <td>${status}</td>
          </tr>`,
      )}
    </table>`
}
