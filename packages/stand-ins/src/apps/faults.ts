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
  /** These shares of its calls to others are not made, or made twice; each comes up to so much later. */
  hooksLost: number
  hooksTwice: number
  hooksLateMs: number
}

export const NO_APP_FAULTS: AppFaults = {
  slowMs: 0,
  failing: 0,
  lost: 0,
  busy: 0,
  expired: false,
  html: false,
  hooksLost: 0,
  hooksTwice: 0,
  hooksLateMs: 0,
}
