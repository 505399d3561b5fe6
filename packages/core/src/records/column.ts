import { Type, type Static } from 'typebox'
import { logicalTypeSchema } from './types.ts'

/** A column as one system has it. */
export const columnSchema = Type.Object({
  name: Type.String(),
  type: logicalTypeSchema,
  /** The type as the system itself names it. */
  nativeType: Type.String(),
  nullable: Type.Boolean(),
})

export type Column = Static<typeof columnSchema>
