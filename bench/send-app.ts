/** The stand-in app of the benchmark of sending; says where it answers. */
import type { AddressInfo } from 'node:net'
import { StandInApp } from '../packages/stand-ins/src/apps/app.ts'
import { fillPollenpost, pollenpostApp } from '../packages/stand-ins/src/apps/pollenpost.ts'
import { Records } from '../packages/stand-ins/src/apps/records.ts'

const [, , folder, perMinute] = process.argv
const app = new StandInApp(pollenpostApp, new Records(pollenpostApp, `${folder}.jsonl`, fillPollenpost))
app.perMinute = Number(perMinute)
let server = ''
const listening = app
  .api(() => server)
  .listen(0, '127.0.0.1', () => {
    server = `http://127.0.0.1:${(listening.address() as AddressInfo).port}`
    process.send?.(server)
  })
