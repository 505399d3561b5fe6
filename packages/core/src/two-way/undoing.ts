/** What becomes of a record when what was written to it is undone. */
export type Undoing =
  /** Fields that still say what was written, with what they said before. */
  | { does: 'change'; fields: { field: string; is: string | null; becomes: string | null }[] }
  /** It was made, and nobody has edited it. */
  | { does: 'delete' }
  /** It was deleted, and is not there; with what it said before. Its own key may be another one then. */
  | { does: 'create'; fields: { field: string; becomes: string }[] }
  | {
      does: 'leave'
      why:
        'edited since' | 'deleted then' | 'gone' | 'not deletable' | 'not creatable' | 'nothing to write back'
    }
