/** Definitions as files: what a pipeline's would say, and what one says. */
import type Router from '@koa/router'
import type { FileAnswer, VersionAnswer } from '@tide/core/api/files'
import { CONNECTION } from '@tide/core/definition/complete'
import { definitionSchemas, type Definition } from '@tide/core/definition/definition'
import { definitionOf, fileOf, printFile, readFile, sameDefinition } from '@tide/core/definition/file'
import { pipelineRecord } from '../pipeline-record.ts'
import type { Services } from '../services.ts'
import { validDefinition } from '../valid-definition.ts'
import { valid } from '../validate.ts'

const fileSchema = {
  type: 'object',
  additionalProperties: false,
  required: ['text'],
  properties: { text: { type: 'string', maxLength: 2_000_000 } },
}

/** As many of a pipeline's versions are shown. */
const VERSIONS = 100

/** Of a file, connections are named. */
const NAMED = { type: 'string', title: CONNECTION }

/** One source, or several origins, each by the name of its connection. */
function fromNamed({
  anyOf: [, several],
  ...rest
}: (typeof definitionSchemas)['replicate']['properties']['from']): object {
  const { items } = several
  const properties = { ...items.properties, connection: NAMED }
  return { ...rest, anyOf: [NAMED, { ...several, items: { ...items, properties } }] }
}

export function fileRoutes(router: Router, services: Services): void {
  const { store } = services

  router.get('/schemas/pipeline-file', ctx => {
    const { replicate } = definitionSchemas
    ctx.type = 'application/schema+json'
    ctx.body = JSON.stringify({
      $schema: 'https://json-schema.org/draft/2020-12/schema',
      title: 'A pipeline of Constant Tide',
      ...replicate,
      required: replicate.required.filter(name => name !== 'tables'),
      properties: { ...replicate.properties, from: fromNamed(replicate.properties.from), to: NAMED },
    })
  })

  const printer = async () => {
    const named = [...(await store.connections.list()), ...(await store.queries.list())]
    const names = new Map(named.map(({ id, name }) => [id, name]))
    return (definition: Definition) => printFile(fileOf(definition, id => names.get(id)))
  }

  router.get('/pipelines/:id/file', async ctx => {
    const { definition } = await pipelineRecord(services, ctx.params.id!)
    ctx.type = 'application/yaml'
    ctx.body = (await printer())(definition)
  })

  /** What has run, the newest first. */
  router.get('/pipelines/:id/versions', async ctx => {
    const { id } = await pipelineRecord(services, ctx.params.id!)
    const [versions, print] = await Promise.all([store.versions.last(id, VERSIONS), printer()])
    ctx.body = versions.map((version): VersionAnswer => ({ ...version, text: print(version.definition) }))
  })

  router.post('/files/read', async ctx => {
    const { text } = valid<{ text: string }>(fileSchema, ctx.request.body, 'File')
    const idsOf = (list: readonly { id: string; name: string }[]) =>
      new Map(list.map(({ id, name }) => [name, id]))
    const ids = {
      connection: idsOf(await store.connections.list()),
      'saved query': idsOf(await store.queries.list()),
    }
    const said = Object(readFile(text)) as Definition
    const definition = validDefinition(definitionOf(said, (name, of) => ids[of].get(name)))
    const present = (await store.pipelines.list()).find(one => one.definition.name === definition.name)
    ctx.body = {
      definition,
      pipeline: present?.id ?? null,
      differs: present !== undefined && !sameDefinition(present.definition, definition),
    } satisfies FileAnswer
  })
}
