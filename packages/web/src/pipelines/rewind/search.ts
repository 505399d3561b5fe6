/** The search parameter that opens the dialog; what it says is where to go. */
export const REWIND = 'rewind'
