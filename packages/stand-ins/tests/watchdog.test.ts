import { afterAll, expect, test } from '@jest/globals'
import { spawn } from 'node:child_process'
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'

const WATCHDOG = new URL('../src/watchdog.mjs', import.meta.url)

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

/** A process that is watched, and works on something for so long that nothing else happens in it. */
function watched(workMs: number): Promise<[code: number | null, signal: string | null]> {
  const script = `
    import { Worker } from 'node:worker_threads'
    const beat = new SharedArrayBuffer(4)
    setInterval(() => Atomics.add(new Int32Array(beat), 0, 1), 100)
    new Worker(new URL(${JSON.stringify(WATCHDOG.href)}), { workerData: { beat, mostMs: 1500 } }).unref()
    setTimeout(() => { const end = Date.now() + ${workMs}; while (Date.now() < end); }, 300)
    setTimeout(() => process.exit(7), ${workMs + 800})`
  const file = join(folder, `${workMs}.mjs`)
  writeFileSync(file, script)
  const child = spawn(process.execPath, [file])
  return new Promise(resolve => child.once('exit', (...how) => resolve(how)))
}

test('a process that is held up for too long is ended; one that goes on is not', async () => {
  expect(await Promise.all([watched(60_000), watched(500)])).toEqual([
    [null, 'SIGKILL'],
    [7, null],
  ])
}, 30_000)
