/** What a dialect's types are to the generator. */

/** How a type's values are compared; see `render.ts`. */
export type Family =
  | 'bool'
  | 'number'
  | 'float32'
  | 'float64'
  | 'text'
  | 'padded'
  | 'binary'
  | 'date'
  | 'time'
  | 'timestamp'
  | 'timestamptz'
  | 'interval'
  | 'uuid'
  | 'list'
  | 'printed'

export interface TypeSpec {
  /** As it stands in CREATE TABLE. */
  sql: string
  family: Family
  /** An expression of the dialect for value number `n`; the first ones are the plainest. */
  value(n: number): string
  /** Values that some target does not hold; only in cases that are said to be wild. */
  wild?: string[]
  /** Can be part of a primary key. */
  keyable?: boolean
  /** Of a list: what its elements are. */
  element?: Family
}

/** Edges first, then at random between them. */
export function from(edges: readonly string[], random: (n: number) => string): (n: number) => string {
  return n => (n % 3 < 2 || n < edges.length ? edges[n % edges.length]! : random(n))
}
