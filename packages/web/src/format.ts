/** Numbers and times as people read them here: thousands separated, units always. */

export function count(n: number): string {
  return Math.round(n).toLocaleString('en')
}

/** `1 row`, `12 rows`. */
export function plural(n: number, one: string, many = `${one}s`): string {
  return `${count(n)} ${n === 1 ? one : many}`
}

export function bytes(n: number): string {
  if (n < 1000) return `${n} B`
  const units = ['kB', 'MB', 'GB', 'TB']
  let value = n / 1000
  let unit = 0
  while (value >= 1000 && unit < units.length - 1) {
    value /= 1000
    unit++
  }
  return `${value < 10 ? value.toFixed(1) : Math.round(value)} ${units[unit]}`
}

/** `under 0.1 s`, `0.6 s`, `42 s`, `4 m 12 s`, `1 h 3 m`, `2 d 4 h`. */
export function duration(seconds: number): string {
  if (seconds < 0.05) return 'under 0.1 s'
  if (seconds < 10) return `${seconds.toFixed(1)} s`
  const s = Math.round(seconds)
  if (s < 60) return `${s} s`
  if (s < 3600) return `${Math.floor(s / 60)} m ${s % 60} s`
  if (s < 86_400) return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} m`
  return `${Math.floor(s / 86_400)} d ${Math.floor((s % 86_400) / 3600)} h`
}

export function ago(iso: string, now: number): string {
  const seconds = (now - Date.parse(iso)) / 1000
  return seconds < 1.5 ? 'now' : `${duration(Math.floor(seconds)).replace(/\.0 s$/, ' s')} ago`
}

export function clock(at: number | string): string {
  return new Date(at).toLocaleTimeString('en-GB')
}

/** Date and time, for the exact moment behind a relative one. */
export function moment(at: number | string): string {
  const date = new Date(at)
  return `${date.toLocaleDateString('en-CA')} ${date.toLocaleTimeString('en-GB')}`
}
