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
  const faults = likeliest(validate.errors ?? [])
    .map(describe)
    .join('; ')
  throw new Failure('refused', `${what}: ${faults.slice(0, TOLD_CHARACTERS)}.`, 'Correct what is named.')
}

/** Of the forms that a value may have, only what it lacks for the one that it is nearest to. */
function likeliest(errors: readonly ErrorObject[]): ErrorObject[] {
  let left = [...errors]
  for (const { schemaPath, instancePath } of errors.filter(({ keyword }) => keyword === 'anyOf')) {
    const formOf = (error: ErrorObject) =>
      error.schemaPath.startsWith(`${schemaPath}/`) && error.instancePath.startsWith(instancePath)
        ? error.schemaPath.slice(schemaPath.length + 1).split('/')[0]
        : undefined
    const forms = new Map<string, ErrorObject[]>()
    for (const error of left) {
      const form = formOf(error)
      if (form !== undefined) forms.set(form, [...(forms.get(form) ?? []), error])
    }
    const [nearest] = [...forms].sort(([, a], [, b]) => a.length - b.length)
    if (!nearest) continue
    left = left.filter(error => {
      const form = formOf(error)
      const isChoice = error.schemaPath === schemaPath && error.instancePath === instancePath
      return !isChoice && (form === undefined || form === nearest[0])
    })
  }
  return left
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
  const place = instancePath.slice(1).replaceAll('/', '.')
  if (keyword === 'additionalProperties')
    return `${params.additionalProperty} is not known ${place === '' ? 'here' : `in ${place}`}`
  const where = schema.title ?? place
  if (keyword === 'minLength') return `${where} is empty`
  if (keyword === 'pattern' && schema.patternSays) return `${where} ${schema.patternSays}`
  return `${where || 'it'} ${message}`
}
