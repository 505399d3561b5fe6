/** What a column becomes at the target; `note` says what is different about it there. */
export interface MappedType {
  native: string
  note?: string
}
