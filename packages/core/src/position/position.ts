import { Type, type Static } from 'typebox'

/**
 * A place in a source's stream of changes. `at` is printed the way the source's own tools print it and is opaque
 * to everybody but the connector of that `kind`; `incarnation` tells a restored or replaced source apart.
 */
export const positionSchema = Type.Object({
  kind: Type.String(),
  incarnation: Type.String(),
  at: Type.String(),
})

export type Position = Static<typeof positionSchema>

/** `unknown`: of another kind or another incarnation of the source, so that neither can be followed from the other. */
export type PositionOrder = 'before' | 'same' | 'after' | 'unknown'
