/** What tests of two places in step ask of their pipeline. */
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { Errand } from '@tide/core/definition/errand'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'

export function passesOf(server: () => string, pipeline: () => string) {
  const status = () => call<PipelineStatus>(server(), 'GET', `/pipelines/${pipeline()}`)
  const ask = async (deed: object) => {
    const { errand } = await call<{ errand: string }>(
      server(),
      'POST',
      `/pipelines/${pipeline()}/two-way`,
      deed,
    )
    return async () => {
      const errands = await call<Errand[]>(server(), 'GET', `/pipelines/${pipeline()}/errands`)
      return errands.find(one => one.id === errand && one.endedAt !== null)
    }
  }

  async function decide(deed: object): Promise<Errand> {
    const ended = await ask(deed)
    let over: Errand | undefined
    await eventually(async () => (over = await ended()) !== undefined, 30)
    return over!
  }

  /** A whole pass that begins once it is asked for: one that was about to begin by itself does not count. */
  async function pass(sweep = false): Promise<void> {
    const ended = await ask({ deed: 'pass', sweep })
    let from: number | undefined
    await eventually(async () => {
      const { state, reason, twoWay } = await status()
      if (state === 'Stopped') throw new Error(reason?.message)
      from ??= Date.parse((await ended())?.endedAt ?? '') || undefined
      return from !== undefined && Date.parse(twoWay?.last?.beganAt ?? '') >= from
    }, 30)
  }

  return { status, decide, pass }
}
