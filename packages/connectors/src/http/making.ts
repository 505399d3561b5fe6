/** Objects and fields that are made in an app where its users make them, too. */
import { typeToMake, type DescribedDiscovery } from '@tide/core/app/discovery'
import { Failure } from '@tide/core/failure'
import type { MakeAsked, ToMake } from '../contract/app.ts'
import type { Caller } from './caller.ts'
import { Understood } from './understood.ts'
import { at, filled } from './values.ts'

/** Of what an app calls its objects and fields. */
export const LONGEST_NAME = 200

export class Making {
  private readonly app: string
  private readonly described: DescribedDiscovery
  private readonly caller: Caller
  private readonly understood: Understood

  constructor(app: string, described: DescribedDiscovery, caller: Caller) {
    this.app = app
    this.described = described
    this.caller = caller
    this.understood = new Understood(app)
  }

  /** What would be called, and then is. */
  toMake({ into, fields, link }: MakeAsked): ToMake {
    const { make, types } = this.described
    if (!make)
      throw new Failure('refused', `${this.app} lets nobody make fields.`, 'Make them there by hand.')
    const planned = fields.flatMap(field => {
      const type = typeToMake(field, types)
      return type === undefined
        ? []
        : [{ field: field.name, title: field.title, type, choices: field.choices }]
    })
    const text = typeToMake({ type: { kind: 'utf8' }, choices: null, email: false }, types)
    const linked =
      link === null || text === undefined ? [] : [{ field: null, title: link, type: text, choices: null }]
    const all = [...planned, ...linked]
    const bodies = all.map(({ title, type, choices }) =>
      filled(make.field.body, { title, type, choices: typeTakesChoices(types, type) ? choices : null }),
    )
    const asked =
      'table' in into
        ? [{ ...make.object, body: filled(make.object.body, { title: into.table, fields: bodies }) }]
        : bodies.map(body => ({ ...make.field, path: withObject(make.field.path, into.place), body }))
    return {
      calls: asked.map(({ method = 'POST', path, body }) => `${method} ${path}\n${printed(body)}`),
      joins: planned.map(({ field, title }) => ({ field, column: title })),
      link: linked[0]?.title ?? null,
      make: async signal => {
        const answers: unknown[] = []
        for (const { method = 'POST', path, body } of asked) {
          const answer = await this.caller.call({ method, path, body, writes: true, signal })
          answers.push(this.understood.at(answer, 'what is to be made', ''))
        }
        return this.made(into, answers, all)
      },
    }
  }

  private made(
    into: MakeAsked['into'],
    answers: readonly unknown[],
    all: readonly { field: string | null }[],
  ): Awaited<ReturnType<ToMake['make']>> {
    const { make, fields } = this.described
    const name = (value: unknown, where: string) =>
      this.understood.name(value, 'what was made', where, LONGEST_NAME)
    const [first] = answers
    const told = 'table' in into ? at(first, make!.object.fields) : answers
    const ids = Array.isArray(told) ? (told as unknown[]) : []
    const pointer = 'table' in into ? fields.id : make!.field.id
    const named = all.map(({ field }, i) => ({ field, column: name(at(ids[i], pointer), 'discovery.make') }))
    return {
      place: 'table' in into ? name(at(first, make!.object.id), 'discovery.make.object.id') : into.place,
      joins: named.flatMap(({ field, column }) => (field === null ? [] : [{ field, column }])),
      link: named.find(({ field }) => field === null)?.column ?? null,
    }
  }
}

/** Each field on a line. */
function printed(body: unknown): string {
  return JSON.stringify(body, null, 2).replace(
    /\{\s+([^{}]*?)\s+\}/g,
    (_, inner: string) => `{ ${inner.replace(/\s*\n\s*/g, ' ')} }`,
  )
}

function typeTakesChoices(types: DescribedDiscovery['types'], type: string): boolean {
  return types[type]?.choices === true
}

export function withObject(path: string, object: string): string {
  return path.replaceAll('{object}', encodeURIComponent(object))
}
