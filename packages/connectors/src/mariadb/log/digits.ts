/** Numbers, dates and times put down digit by digit, where the writer has room for them. */
import type { RowWriter } from '@tide/core/records/tuple'

export const [ZERO, DASH, DOT, PLUS, SPACE] = [0x30, 0x2d, 0x2e, 0x2b, 0x20]
const COLON = 0x3a

/** A whole number that JavaScript has exactly. */
export function putInteger(out: RowWriter, value: number): void {
  if (value < 0) {
    out.bytes[out.at++] = DASH
    value = -value
  }
  let digits = 1
  for (let power = 10; value >= power; power *= 10) digits++
  padded(out, value, digits)
}

/** A number that is not negative, with zeros in front of it; digits for which there is no room are lost. */
export function padded(out: RowWriter, value: number, digits: number): void {
  const { bytes, at } = out
  let place = at + digits - 1
  // Division of small numbers is that of the processor.
  for (; value > 0x7fffffff && place >= at; place--) {
    const rest = Math.floor(value / 10)
    bytes[place] = ZERO + (value - rest * 10)
    value = rest
  }
  for (let small = value | 0; place >= at; place--) {
    const rest = (small / 10) | 0
    bytes[place] = ZERO + (small - rest * 10)
    small = rest
  }
  out.at = at + digits
}

/** `2026-05-04`. */
export function putDate(out: RowWriter, year: number, month: number, day: number): void {
  padded(out, year, 4)
  out.bytes[out.at++] = DASH
  padded(out, month, 2)
  out.bytes[out.at++] = DASH
  padded(out, day, 2)
}

/** `07:00:59`, and hours of three digits where a time has them. */
export function putClock(out: RowWriter, hours: number, minutes: number, seconds: number): void {
  padded(out, hours, hours > 99 ? 3 : 2)
  out.bytes[out.at++] = COLON
  padded(out, minutes, 2)
  out.bytes[out.at++] = COLON
  padded(out, seconds, 2)
}

/** `.5` for half a second; nothing when there is none. */
export function putFraction(out: RowWriter, microseconds: number): void {
  if (microseconds === 0) return
  out.bytes[out.at++] = DOT
  padded(out, microseconds, 6)
  while (out.bytes[out.at - 1] === ZERO) out.at--
}
