/** Processor time, from Linux's own counts. https://man7.org/linux/man-pages/man5/proc.5.html */
import { readdirSync, readFileSync } from 'node:fs'

const TICKS_PER_SECOND = 100

/** Seconds that a server and all its processes have taken, those that have ended included. */
export function processorTimeOf(pid: number): number {
  const stat = (pid: string) => {
    const text = readFileSync(`/proc/${pid}/stat`, 'utf8')
    return text.slice(text.lastIndexOf(')') + 2).split(' ')
  }
  const main = String(pid)
  let ticks = 0
  for (const pid of readdirSync('/proc').filter(name => /^\d+$/.test(name))) {
    try {
      // The fields from the third on: 1 parent, 11 and 12 user and system, 13 and 14 those of ended children.
      const fields = stat(pid)
      if (pid === main) ticks += [11, 12, 13, 14].reduce((sum, i) => sum + Number(fields[i]), 0)
      else if (fields[1] === main) ticks += Number(fields[11]) + Number(fields[12])
    } catch {
      // It has ended meanwhile; then its parent counts it.
    }
  }
  return ticks / TICKS_PER_SECOND
}

/** Seconds that all cores of the machine have worked, whoever for. */
export function machineTime(): number {
  const [user, nice, system, , , irq, softirq] = readFileSync('/proc/stat', 'utf8')
    .split('\n')[0]!
    .trim()
    .split(/\s+/)
    .slice(1)
    .map(Number)
  return (user! + nice! + system! + irq! + softirq!) / TICKS_PER_SECOND
}
