/** Ids of connections and pipelines. They become parts of paths and of names at systems, so nothing else is let in. */
import { Type } from 'typebox'

export const ID_PATTERN = '^[a-z0-9]{1,40}$'

/** An id, or nothing where none is chosen yet. */
export const CHOSEN_PATTERN = '^([a-z0-9]{1,40})?$'

/** Names that people give: nothing in them that turns the text around them, or cannot be seen. */
export const NAME_PATTERN = '^[^\\p{Cc}\\p{Bidi_Control}]*$'

export const NAME_SAYS = 'holds characters that cannot be seen or turn the text around'

/** JSON Schema of a text that people give and see. */
export function shownText(title: string, maxLength: number, minLength = 0) {
  return Type.String({ title, maxLength, minLength, pattern: NAME_PATTERN, patternSays: NAME_SAYS })
}

const ID = new RegExp(ID_PATTERN)

export function isId(text: string): boolean {
  return ID.test(text)
}
