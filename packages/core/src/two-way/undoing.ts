/** What becomes of a record when what was written to it is undone. */
export type Undoing =
  /** Fields that still say what was written, with what they said before. */
  | { does: 'change'; fields: { field: string; is: string | null; becomes: string | null }[] }
  /** It was made, and nobody has edited it. */
  | { does: 'delete' }
  | {
      does: 'leave'
      why: 'edited since' | 'deleted then' | 'gone' | 'not deletable' | 'nothing to write back'
    }
