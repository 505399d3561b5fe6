/** Objects of an app by its OpenAPI 3.1 document (https://spec.openapis.org/oas/v3.1.1) and its description. */
import type { LogicalType } from '../records/types.ts'
import type { AppDescription, DescribedObject } from './description.ts'
import type { DescribedRecords } from './described-records.ts'
import type { DescribedDiscovery } from './discovery.ts'
import { jsonType } from './json-type.ts'
import { LINKS, objectOf, type AppField, type AppObject } from './object.ts'

/** As much of JSON Schema as is looked into. */
interface Schema {
  $ref?: string
  title?: string
  type?: string | string[]
  format?: string
  enum?: unknown[]
  readOnly?: boolean
  maxLength?: number
  properties?: Record<string, Schema>
  required?: string[]
  items?: Schema
}

export interface OpenApi {
  openapi: string
  info?: { title?: string }
  paths?: Record<string, Record<string, unknown>>
  components?: { schemas?: Record<string, Schema> }
}

/** What does not fit, and where in the description: names from the outermost on. */
export interface DescriptionFault {
  at: string[]
  message: string
  remedy: string
}

export function isOpenApi(value: unknown): value is OpenApi {
  const { openapi, paths } = Object(value) as Partial<OpenApi>
  return (
    typeof openapi === 'string' &&
    /^3\.\d/.test(openapi) &&
    (paths === undefined || typeof paths === 'object')
  )
}

/** Everything that the description names is in the document. */
export function faultsOf(description: AppDescription, document: OpenApi): DescriptionFault[] {
  const faults: DescriptionFault[] = []
  const objects = Object.keys(description.objects)
  const { subscribe, remove } = description.webhooks ?? {}
  for (const [place, asked, preset] of [
    ['subscribe', subscribe, 'POST'],
    ['remove', remove, 'DELETE'],
  ] as const)
    if (asked) missingRequest(document, ['webhooks', place], asked.path, asked.method ?? preset, faults)
  const { sheets, discovery } = description
  if (sheets && discovery)
    faults.push({
      at: ['sheets'],
      message: 'There are sheets and a discovery.',
      remedy: 'Take one of them out: objects that are not described come from one of them.',
    })
  if (discovery) missingDiscovery(document, discovery, faults)
  for (const [place, asked, preset] of [
    ['list', sheets?.list, 'GET'],
    ['rows', sheets?.rows, 'GET'],
    ['write', sheets?.write, 'POST'],
    ['column', sheets?.column, 'POST'],
  ] as const)
    if (asked)
      missingRequest(
        document,
        ['sheets', place],
        asked.path,
        'method' in asked ? (asked.method ?? preset) : preset,
        faults,
      )
  for (const [name, object] of Object.entries(description.objects)) {
    const at = ['objects', name]
    const schema = schemaOf(document, object.schema)
    if (!schema?.properties) {
      const known = Object.keys(document.components?.schemas ?? {})
      faults.push({
        at: [...at, 'schema'],
        message: `The document has no schema “${object.schema}” with properties.`,
        remedy: known.length > 0 ? `It has ${known.join(', ')}.` : 'Its components have no schemas at all.',
      })
      continue
    }
    const fields = Object.keys(schema.properties)
    const named: [string[], string | undefined][] = [
      [['key'], object.key],
      [['label'], object.label],
      [['created'], object.created],
      [['version', 'field'], object.version?.field],
      [['list', 'changed', 'field'], object.list?.changed?.field],
      ...Object.keys(object.list?.where ?? {}).map((field): [string[], string] => [
        ['list', 'where', field],
        field,
      ]),
      ...Object.keys(object.fields ?? {}).map((field): [string[], string] => [['fields', field], field]),
    ]
    for (const [place, field] of named) {
      if (field === undefined || fields.includes(field)) continue
      faults.push({
        at: [...at, ...place],
        message: `The schema “${object.schema}” has no property “${field}”.`,
        remedy: `It has ${fields.join(', ')}.`,
      })
    }
    for (const [field, { refers }] of Object.entries(object.fields ?? {})) {
      // Of others only the app can tell.
      if (refers === undefined || discovery || objects.includes(refers)) continue
      faults.push({
        at: [...at, 'fields', field, 'refers'],
        message: `There is no object “${refers}” in this description.`,
        remedy: `It has ${objects.join(', ')}.`,
      })
    }
    for (const { place, path, method } of requestsOf(object))
      missingRequest(document, [...at, ...place], path, method, faults)
  }
  return faults
}

function missingDiscovery(
  document: OpenApi,
  { list, fields, records, make }: DescribedDiscovery,
  faults: DescriptionFault[],
): void {
  const asked: [string[], string | undefined, string][] = [
    [['list'], list.path, 'GET'],
    [['fields'], fields.path, 'GET'],
    [['make', 'object'], make?.object.path, make?.object.method ?? 'POST'],
    [['make', 'field'], make?.field.path, make?.field.method ?? 'POST'],
  ]
  for (const [place, path, method] of asked)
    if (path !== undefined) missingRequest(document, ['discovery', ...place], path, method, faults)
  for (const { place, path, method } of requestsOf(records))
    missingRequest(document, ['discovery', 'records', ...place], path, method, faults)
}

/** Whatever the parts of a path that stand for a key are called. */
function plainPath(path: string): string {
  return path.replace(/\{[^{}]*\}/g, '{}')
}

function missingRequest(
  document: OpenApi,
  at: string[],
  path: string,
  method: string,
  faults: DescriptionFault[],
): void {
  const [, found] =
    Object.entries(document.paths ?? {}).find(([one]) => plainPath(one) === plainPath(path)) ?? []
  if (!found) {
    faults.push({
      at: [...at, 'path'],
      message: `The document has no path ${path}.`,
      remedy: `It has ${Object.keys(document.paths ?? {}).join(', ')}.`,
    })
  } else if (!(method.toLowerCase() in found)) {
    faults.push({
      at,
      message: `${path} knows no ${method}.`,
      remedy: `It knows ${Object.keys(found).join(', ').toUpperCase()}.`,
    })
  }
}

function requestsOf(object: DescribedRecords): { place: string[]; path: string; method: string }[] {
  const { list, gone, read, create, change, remove, batch } = object
  const one = (place: string, asked: { path: string; method?: string } | undefined, preset: string) =>
    asked ? [{ place: [place], path: asked.path, method: asked.method ?? preset }] : []
  return [
    ...one('list', list, 'GET'),
    ...one('gone', gone, 'GET'),
    ...one('read', read, 'GET'),
    ...one('create', create, 'POST'),
    ...one('change', change, 'PATCH'),
    ...one('remove', remove, 'DELETE'),
    ...one('batch', batch, 'POST'),
  ]
}

/** The objects of a description without faults, in its order. */
export function objectsOf(description: AppDescription, document: OpenApi): AppObject[] {
  return Object.entries(description.objects).map(([name, object]) => {
    const schema = schemaOf(document, object.schema)!
    const required = new Set(schema.required)
    const fields = Object.entries(schema.properties ?? {}).map(([field, property]) =>
      fieldOf(field, property, { document, object, required: required.has(field) }),
    )
    const { title = name, label = null } = object
    return objectOf({ name, title, label, fields }, object)
  })
}

function fieldOf(
  name: string,
  property: Schema,
  { document, object, required }: { document: OpenApi; object: DescribedObject; required: boolean },
): AppField {
  const schema = resolved(document, property)
  const { refers = null, unique = false, link } = object.fields?.[name] ?? {}
  const readOnly = schema.readOnly === true || property.readOnly === true || link !== undefined
  return {
    name,
    title: schema.title ?? name,
    type: link === undefined ? typeOf(document, schema) : LINKS,
    nativeType: [typeNameOf(schema), schema.format].filter(Boolean).join(' '),
    required: required && !readOnly,
    readOnly,
    choices: schema.enum?.filter(one => one !== null).map(String) ?? null,
    maxLength: schema.maxLength ?? null,
    unique,
    refers,
    email: schema.format === 'email',
    ...(link === undefined ? {} : { link }),
  }
}

function schemaOf(document: OpenApi, name: string): Schema | undefined {
  const schemas = document.components?.schemas ?? {}
  return Object.hasOwn(schemas, name) ? resolved(document, schemas[name]!) : undefined
}

const DEEPEST = 10

function resolved(document: OpenApi, schema: Schema): Schema {
  let found = schema
  for (let depth = 0; found.$ref !== undefined && depth < DEEPEST; depth++) {
    const name = /^#\/components\/schemas\/([^/]+)$/.exec(found.$ref)?.[1]
    const schemas = document.components?.schemas ?? {}
    if (name === undefined || !Object.hasOwn(schemas, name)) return {}
    found = schemas[name]!
  }
  return found
}

function typeNameOf({ type }: Schema): string {
  const names = (Array.isArray(type) ? type : [type]).filter(one => one !== undefined && one !== 'null')
  return names.length === 1 ? names[0]! : names.length === 0 ? 'any' : names.join(' or ')
}

function typeOf(document: OpenApi, schema: Schema): LogicalType {
  const name = typeNameOf(schema)
  if (name !== 'array') return jsonType(name, schema.format)
  return {
    kind: 'list',
    of: schema.items ? typeOf(document, resolved(document, schema.items)) : { kind: 'json' },
  }
}
