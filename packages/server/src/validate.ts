import { Failure } from '@tide/core/failure'
import { Ajv, type ErrorObject, type ValidateFunction } from 'ajv'

const ajv = new Ajv({ allErrors: true, useDefaults: true, strict: false, verbose: true })
const compiled = new WeakMap<object, ValidateFunction>()

/** The value, if it is valid against the schema; else a Failure that names every wrong property. Fills in defaults. */
export function valid<T>(schema: object, value: unknown, what: string): T {
  let validate = compiled.get(schema)
  if (!validate) compiled.set(schema, (validate = ajv.compile(schema)))
  if (validate(value)) return value as T
  const faults = (validate.errors ?? []).map(describe)
  throw new Failure('refused', `${what}: ${faults.join('; ')}.`, 'Correct what is named.')
}

interface Titled {
  title?: string
  properties?: Record<string, { title?: string }>
}

function describe({ instancePath, keyword, message, params, parentSchema }: ErrorObject): string {
  const schema = parentSchema as Titled
  if (keyword === 'required')
    return `${schema.properties?.[params.missingProperty]?.title ?? params.missingProperty} is missing`
  if (keyword === 'additionalProperties') return `${params.additionalProperty} is not known here`
  const where = schema.title ?? instancePath.slice(1).replaceAll('/', '.')
  if (keyword === 'minLength') return `${where} is empty`
  return `${where || 'it'} ${message}`
}
