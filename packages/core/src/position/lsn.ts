/** PostgreSQL's log sequence numbers, printed as two hexadecimal numbers: `16/B374D848`. */

/** Throws on anything else. */
export function parseLsn(text: string): bigint {
  const match = /^([0-9A-F]{1,8})\/([0-9A-F]{1,8})$/i.exec(text)
  if (!match) throw new Error(`not a log sequence number: ${text}`)
  return (BigInt(`0x${match[1]}`) << 32n) | BigInt(`0x${match[2]}`)
}

export function printLsn(lsn: bigint): string {
  return `${(lsn >> 32n).toString(16).toUpperCase()}/${(lsn & 0xffffffffn).toString(16).toUpperCase()}`
}
