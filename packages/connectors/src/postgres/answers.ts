/** Changes that one answer may hold: it comes whole, and how large its values are shows only then. */
export const CHANGES_IN_AN_ANSWER = 5_000
