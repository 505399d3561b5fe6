// Loaded into the server process from outside: answers how long its event loop was held up.
import { monitorEventLoopDelay } from 'node:perf_hooks'

const delay = monitorEventLoopDelay({ resolution: 5 })
process.on('message', message => {
  if (message === 'probe begin') {
    delay.enable()
    delay.reset()
  }
  if (message === 'probe end')
    process.send({ probe: { p99: delay.percentile(99) / 1e6, max: delay.max / 1e6 } })
})
