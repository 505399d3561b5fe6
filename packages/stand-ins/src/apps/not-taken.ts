/** Why the app will not have a value. */
export class NotTaken extends Error {
  readonly field: string | null
  readonly code: string

  constructor(field: string | null, code: string, message: string) {
    super(message)
    this.field = field
    this.code = code
  }
}
