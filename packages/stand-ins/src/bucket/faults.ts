/** What goes wrong at a store now and then: switched on by people, or by tests. */
export interface Faults {
  /** Each answer comes so much later. */
  slowMs: number
  /** This share of the requests is answered with an error of the server, and nothing is done. */
  failing: number
  /** Of this share everything is done, and the answer is lost. */
  lost: number
  /** Nothing new goes in. */
  full: boolean
  /** Nothing may be deleted. */
  keeps: boolean
  /** It does not know conditions, as some stores do not. */
  plain: boolean
}

export const NO_FAULTS: Faults = { slowMs: 0, failing: 0, lost: 0, full: false, keeps: false, plain: false }
