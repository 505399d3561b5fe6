/** A text field, but for what is said of it. */
import type { AppField } from '../src/app/object.ts'

export const field = (name: string, more: Partial<AppField> = {}): AppField => ({
  name,
  title: name,
  type: { kind: 'utf8' },
  nativeType: 'string',
  required: false,
  readOnly: false,
  choices: null,
  maxLength: null,
  unique: false,
  refers: null,
  email: false,
  ...more,
})
