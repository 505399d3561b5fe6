/** What a stand-in app has: its objects with their fields, as its own OpenAPI document tells them. */

export interface StandInField {
  /** JSON Schema. */
  type: 'string' | 'integer' | 'number' | 'boolean' | 'array'
  format?: 'email' | 'date' | 'date-time' | 'decimal'
  title?: string
  /** Of a set: of each of its elements. */
  enum?: string[]
  /** Of a set: files, each with its name and its address, by which it is kept. */
  files?: true
  maxLength?: number
  readOnly?: boolean
  /** Who has made the record. */
  maker?: true
  required?: boolean
  /** No two records have the same, but for none. */
  unique?: boolean
  /** Of another object, whose record its value must be. */
  refers?: string
  /** Why the app will not have a value that is otherwise right. */
  refuses?: (value: string) => string | undefined
  /** What the app makes of what it is given. */
  normal?: (value: string) => string
  /** Computed whenever it is asked for; `all`: of every object. */
  computed?: (record: StandInRecord, all: (object: string) => StandInRecord[]) => JsonValue
}

/** Of a set: its elements. */
export type JsonValue = string | number | boolean | null | string[]
export type StandInRecord = Record<string, JsonValue> & { id: string }

export interface StandInObject {
  name: string
  /** As people read it. */
  title?: string
  schema: string
  /** Ids begin with it. */
  prefix: string
  /** The number of its first record; 1001 by default. */
  first?: number
  /** Records of another object that it shows, for nobody to write. */
  view?: { of: string; shows: (record: StandInRecord) => boolean }
  fields: Record<string, StandInField>
  /** Its records are said of others, which `field` names; they go with them. */
  remarks?: { field: string; body: string }
  /** Fields that together no two records share. */
  together?: string[]
  /** Records can be asked for by these. */
  findBy: string[]
  /** Nobody can read its records, only how many there are. */
  countsOnly?: boolean
  /** Operations in one batch, at most. */
  batch: number
}

export interface StandInAppDefinition {
  name: string
  what: string
  token: string
  perMinute: number
  /** People make tables and fields of their own, and its interface tells which there are. */
  tables?: true
  /** Where it tells which records were deleted. */
  deletions?: 'in the list' | 'in a feed'
  /** It calls others when records change. */
  calls?: true
  /** Between which a person chooses who lets others in. */
  accounts?: string[]
  objects: StandInObject[]
}
