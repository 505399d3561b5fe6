import { Failure } from '@tide/core/failure'
import { Ajv, type ErrorObject, type ValidateFunction } from 'ajv'

const OPTIONS = { useDefaults: true, strict: false, verbose: true }
const firstFault = compiler(new Ajv(OPTIONS))
const allFaults = compiler(new Ajv({ ...OPTIONS, allErrors: true }))
/** In something small, as people fill in, every fault is named. */
const SMALL_CHARACTERS = 20_000
const TOLD_CHARACTERS = 2_000

/** The value, if it is valid against the schema; else a Failure that names every wrong property. Fills in defaults. */
export function valid<T>(schema: object, value: unknown, what: string): T {
  let validate = firstFault(schema)
  if (validate(value)) return value as T
  if ((JSON.stringify(value) ?? '').length <= SMALL_CHARACTERS) {
    validate = allFaults(schema)
    validate(value)
  }
  const faults = (validate.errors ?? []).map(describe).join('; ')
  throw new Failure('refused', `${what}: ${faults.slice(0, TOLD_CHARACTERS)}.`, 'Correct what is named.')
}

function compiler(ajv: Ajv): (schema: object) => ValidateFunction {
  const compiled = new WeakMap<object, ValidateFunction>()
  return schema => {
    let validate = compiled.get(schema)
    if (!validate) compiled.set(schema, (validate = ajv.compile(schema)))
    return validate
  }
}

interface Titled {
  title?: string
  /** What is wrong with a text that does not fit the pattern. */
  patternSays?: string
  properties?: Record<string, { title?: string }>
}

function describe({ instancePath, keyword, message, params, parentSchema }: ErrorObject): string {
  const schema = parentSchema as Titled
  if (keyword === 'required')
    return `${schema.properties?.[params.missingProperty]?.title ?? params.missingProperty} is missing`
  if (keyword === 'additionalProperties') return `${params.additionalProperty} is not known here`
  const where = schema.title ?? instancePath.slice(1).replaceAll('/', '.')
  if (keyword === 'minLength') return `${where} is empty`
  if (keyword === 'pattern' && schema.patternSays) return `${where} ${schema.patternSays}`
  return `${where || 'it'} ${message}`
}
