// @ts-check
// Looks after its process from a thread of its own, since an embedded database that works on a statement lets nothing else
// happen there: a statement cannot be ended, so the process is, and so it is when its starter is gone.
import { workerData } from 'node:worker_threads'

const LOOK_MS = 500
/** @type {{ beat: SharedArrayBuffer, mostMs: number }} */
const { beat, mostMs } = workerData
const beats = new Int32Array(beat)
const starter = process.ppid
let [last, since] = [-1, Date.now()]

setInterval(() => {
  const now = Atomics.load(beats, 0)
  if (now !== last) [last, since] = [now, Date.now()]
  if (Date.now() - since > mostMs || process.ppid !== starter) process.kill(process.pid, 'SIGKILL')
}, LOOK_MS)
