import type { Definition } from '../definition/definition.ts'

/** What a file says, with connections by id. */
export interface FileAnswer {
  definition: Definition
  /** The pipeline of its name; null: there is none. */
  pipeline: string | null
  /** That pipeline does something else, or would. */
  differs: boolean
}

/** What a pipeline has run by since some moment. */
export interface DefinitionVersion {
  number: number
  at: string
  definition: Definition
}

/** With what it says as a file. */
export interface VersionAnswer extends DefinitionVersion {
  text: string
}
