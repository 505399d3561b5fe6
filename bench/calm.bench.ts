/** How calm the server stays during the copy of 1,000,000 rows: resident memory above idle, and event-loop delay. */
import { fileURLToPath } from 'node:url'
import { copied, makeBed, residentMemory, say } from './bed.ts'

const ROWS = 1_000_000
const MEMORY_LIMIT_MB = 300
const DELAY_LIMIT_MS = 50

const probe = fileURLToPath(new URL('loop-probe.mjs', import.meta.url))
const bed = await makeBed(ROWS, `--import=${probe}`)
const { child } = bed.server
await new Promise(resolve => setTimeout(resolve, 3000))
const idle = residentMemory(child.pid!)
let peak = idle
const watch = setInterval(() => (peak = Math.max(peak, residentMemory(child.pid!))), 20)
child.send('probe begin')
await bed.until(await bed.start('calm'), copied)
const answered = new Promise<{ p99: number; max: number }>(resolve =>
  child.on(
    'message',
    (message: { probe?: { p99: number; max: number } }) => message.probe && resolve(message.probe),
  ),
)
child.send('probe end')
const { p99, max } = await answered
clearInterval(watch)
await bed.close()
const above = peak - idle
say(
  `memory: idle ${idle.toFixed(0)} MB, peak ${peak.toFixed(0)} MB; event loop: p99 ${p99.toFixed(1)} ms, max ${max.toFixed(1)} ms`,
)
const ratio = Math.max(above / MEMORY_LIMIT_MB, p99 / DELAY_LIMIT_MS)
say(
  `calm: ratio ${ratio.toFixed(2)} (ours ${above.toFixed(0)} MB above idle and p99 ${p99.toFixed(1)} ms, limit ${MEMORY_LIMIT_MB} MB and ${DELAY_LIMIT_MS} ms)`,
)
