/** What goes wrong at an app now and then: switched on by people, or by tests. */
export interface AppFaults {
  /** Each answer comes so much later. */
  slowMs: number
  /** This share of the requests is answered with an error of the server, and nothing is done. */
  failing: number
  /** Of this share everything is done, and the answer is lost. */
  lost: number
  /** This share is told to come later. */
  busy: number
  /** Nobody's token is good any more. */
  expired: boolean
  /** A gateway answers with a page. */
  html: boolean
}

export const NO_APP_FAULTS: AppFaults = {
  slowMs: 0,
  failing: 0,
  lost: 0,
  busy: 0,
  expired: false,
  html: false,
}
