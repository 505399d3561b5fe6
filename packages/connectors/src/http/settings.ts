/** The settings of a connection to an app, and what is made of them. */
import { appDescriptionSchema, type AppDescription } from '@tide/core/app/description'
import { Failure } from '@tide/core/failure'
import { Value } from 'typebox/value'
import { LineCounter, parseDocument, type Node } from 'yaml'
import type { Config } from '../contract/session.ts'
import { screenProperty } from '../server-settings.ts'

export interface AppSettings {
  /** Where the app answers, without a slash at the end. */
  server: string
  /** The OpenAPI document's address, or its text; empty: where apps usually have it. */
  openapi: string
  token: string
  user: string
  password: string
  /** What a person has let us in with on the app's page: the token by which others are had. */
  grant: string
}

const secret = (title: string) => ({ type: 'string', title, maxLength: 8000, writeOnly: true, default: '' })

const properties = {
  server: {
    type: 'string',
    title: 'Address',
    description: 'Where the app answers, such as https://api.example.org/v2.',
    pattern: '^https?://[^?#\\s]+$',
    maxLength: 500,
  },
  token: { ...secret('Token or key'), description: 'For apps that are signed in to by one.' },
  user: {
    type: 'string',
    title: 'User or client',
    description: 'For apps that are signed in to by a name and a password, or as a client.',
    default: '',
    maxLength: 500,
  },
  password: secret('Password or client secret'),
  openapi: {
    type: 'string',
    title: 'OpenAPI document',
    description: 'Its address, or its text; empty: /openapi.json of the app.',
    default: '',
    maxLength: 2_000_000,
    multiline: true,
    advanced: true,
  },
  /** Set by signing in on the app’s page. */
  grant: { ...secret('Sign-in at the app'), hidden: true },
  screen: screenProperty,
}

/** For an app whose description ships with us. */
export const shippedSchema = {
  type: 'object',
  required: ['server'],
  additionalProperties: false,
  properties,
}

/** For one that its user describes. */
export const describedSchema = {
  type: 'object',
  required: ['server', 'description'],
  additionalProperties: false,
  properties: {
    description: {
      type: 'string',
      title: 'Description',
      description: 'YAML or JSON: where the app’s objects are listed, read and written. Or its address.',
      maxLength: 500_000,
      multiline: true,
      fetched: true,
    },
    ...properties,
    openapi: { ...properties.openapi, advanced: false },
  },
}

export function settings(config: Config): AppSettings {
  const { server, ...rest } = {
    openapi: '',
    token: '',
    user: '',
    password: '',
    grant: '',
    ...config,
  } as unknown as AppSettings
  return { ...rest, server: server.replace(/\/+$/, '') }
}

/** What a user has written. Throws a Failure that names the line. */
export function readDescription(text: string): AppDescription {
  const lines = new LineCounter()
  const document = parseDocument(text, { prettyErrors: false, uniqueKeys: true, lineCounter: lines })
  const [error] = document.errors
  if (error) throw wrong(lines.linePos(error.pos[0]).line, error.message.split('\n')[0]!)
  let value: unknown
  try {
    // Aliases could make a small text a huge value.
    value = document.toJS({ maxAliasCount: 0 })
  } catch {
    throw wrong(1, 'it refers to parts of itself')
  }
  const [fault] = Value.Errors(appDescriptionSchema, value)
  if (!fault) return value as AppDescription
  const at = fault.instancePath.split('/').slice(1)
  throw wrong(lineOf(document.contents, at, lines), `${at.join('.') || 'it'} ${fault.message}`)
}

function wrong(line: number, said: string): Failure {
  return new Failure(
    'refused',
    `The description, line ${line}: ${said}.`,
    'Correct it there; its schema is at /api/app-description.schema.json.',
  )
}

/** The line in which a value stands, or the innermost of those around it that there is. */
export function lineOf(contents: unknown, at: readonly string[], lines: LineCounter): number {
  let node = contents as (Node & { get?(key: unknown, keep: true): unknown }) | null
  let line = 1
  for (const name of ['', ...at]) {
    if (name !== '')
      node = (node?.get?.(/^\d+$/.test(name) ? Number(name) : name, true) as typeof node) ?? null
    const start = (node as Node | null)?.range?.[0]
    if (start === undefined) break
    ;({ line } = lines.linePos(start))
  }
  return line
}
