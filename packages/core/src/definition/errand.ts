/** What people ask of a running pipeline. */
export interface Errand {
  id: string
  pipeline: string
  /** `recopy`: the lanes are emptied and copied again. */
  kind: 'recopy'
  /** Indexes of the lanes it is about. */
  lanes: number[]
  /** Who asked; null until there is more than one person. */
  askedBy: string | null
  askedAt: string
  state: 'waiting' | 'under way' | 'done' | 'refused'
  /** What came of it, in words. */
  outcome: string | null
  endedAt: string | null
}
