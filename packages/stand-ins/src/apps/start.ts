/** A stand-in app with its screen, where it was left. */
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { freePorts, listen } from '../ports.ts'
import { StandInApp } from './app.ts'
import { Colleagues, type ColleagueDeed } from './colleagues.ts'
import type { StandInAppDefinition } from './definition.ts'
import { Records } from './records.ts'
import { createAppScreen } from './screen.ts'

/** How it is reached. */
export interface AppAccess {
  name: string
  /** The connector's kind. */
  kind: string
  config: { server: string; token: string }
  screen: string
}

export interface Ports {
  api: number
  screen: number
}

/** `ports`: those that are wanted; others are taken at the first start when these are not free. */
export async function startApp(
  folder: string,
  definition: StandInAppDefinition,
  fill: (records: Records) => void,
  deeds: readonly ColleagueDeed[],
  wanted: Ports,
): Promise<AppAccess> {
  const ports = await portsIn(folder, wanted)
  const records = new Records(definition, join(folder, 'records.jsonl'), fill)
  const app = new StandInApp(definition, records)
  const colleagues = new Colleagues(records, deeds)
  colleagues.work = deeds.length > 0
  const server = `http://127.0.0.1:${ports.api}`
  await listen(
    app.api(() => server),
    ports.api,
    definition.name,
  )
  await listen(
    createAppScreen(app, () => server, colleagues),
    ports.screen,
    definition.name,
  )
  return {
    name: definition.name,
    kind: definition.name.toLowerCase(),
    config: { server, token: definition.token },
    screen: `http://127.0.0.1:${ports.screen}/`,
  }
}

/** Those of the first start. */
export async function portsIn(folder: string, wanted: Ports): Promise<Ports> {
  mkdirSync(folder, { recursive: true })
  const memory = join(folder, 'ports.json')
  const ports = keptIn(memory) ?? (await freePorts({ ...wanted }))
  writeFileSync(memory, JSON.stringify(ports))
  return ports
}

function keptIn(memory: string): Ports | undefined {
  try {
    return JSON.parse(readFileSync(memory, 'utf8')) as Ports
  } catch {
    return undefined // the first time
  }
}
