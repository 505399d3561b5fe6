const [QUOTE, NEWLINE] = Buffer.from('"\n')

/** Watches CSV go by and knows its longest record: a reader must be told, and takes memory accordingly. */
export class LineMeter {
  /** Bytes of the longest record so far, its end of line included. */
  longest = 0
  bytes = 0
  private inQuotes = false
  private begun = 0

  take(part: Buffer): void {
    let at = 0
    // Where the next of each is; found again only when passed.
    let newline = part.indexOf(NEWLINE!)
    let quote = part.indexOf(QUOTE!)
    while (at < part.length) {
      if (this.inQuotes) {
        if (quote === -1) break
        this.inQuotes = false
        at = quote + 1
        quote = part.indexOf(QUOTE!, at)
        if (newline !== -1 && newline < at) newline = part.indexOf(NEWLINE!, at)
      } else if (quote !== -1 && (newline === -1 || quote < newline)) {
        this.inQuotes = true
        at = quote + 1
        quote = part.indexOf(QUOTE!, at)
      } else if (newline !== -1) {
        this.longest = Math.max(this.longest, this.bytes + newline + 1 - this.begun)
        this.begun = this.bytes + newline + 1
        at = newline + 1
        newline = part.indexOf(NEWLINE!, at)
      } else break
    }
    this.bytes += part.length
    this.longest = Math.max(this.longest, this.bytes - this.begun)
  }
}
