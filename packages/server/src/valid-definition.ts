import { definitionSchemas, upgradeDefinition, type Definition } from '@tide/core/definition/definition'
import { valid } from './validate.ts'

/** A definition of whatever version as one of today; else a Failure that names every wrong property. */
export function validDefinition(value: unknown): Definition {
  const { shape, definition } = upgradeDefinition(value)
  return valid<Definition>(definitionSchemas[shape], definition, 'Pipeline')
}
