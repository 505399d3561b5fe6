/** Going back in a source's changes, or forward over some of them. */
import type { SavedPosition } from '../definition/saved-position.ts'

/** What a rewind of one source would do, computed from its journal; nothing is changed. */
export interface RewindForesight {
  /** The record that engines run: the pipeline, or an origin of it. */
  run: string
  /** The tag of the origin; empty where there is one source. */
  origin: string
  way: 'back' | 'forward' | 'nowhere'
  /** Where it stands, and where it would go on. */
  present: string
  position: string
  /** When the first transaction behind that was committed, ISO 8601; null: there is none in the journal. */
  next: string | null
  /** Of its tables: what is applied again, or left out. */
  transactions: number
  /** By its lanes. */
  lanes: { source: string; changes: number; from: string | null }[]
  /** False: counting took too long, and it is more than that. */
  counted: boolean
}

/** A position to go back to, and whether the journal still holds what follows it. */
export interface SavedPositionAnswer extends Omit<SavedPosition, 'pipeline' | 'position'> {
  origin: string
  position: string
  held: boolean
}

/** What a person may go back to, and how to ask the source where it stands. */
export interface PositionsAnswer {
  saved: SavedPositionAnswer[]
  /** By source, as long as there is a journal. */
  journals: {
    run: string
    origin: string
    kind: string
    statement: string | null
    start: { position: string; at: string | null }
    end: { position: string; at: string | null }
  }[]
}
