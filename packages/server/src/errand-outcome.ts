import type { ErrandOutcome } from '@tide/core/api/errand'
import type { Services } from './services.ts'

/** For so long an answer waits for what comes of an errand. */
const WAIT_MS = 15_000
const LOOK_MS = 150

/** `stands`: the pipeline stands still, and gets to it later. */
export async function outcomeOf(
  { store }: Pick<Services, 'store'>,
  errand: string,
  stands: boolean,
): Promise<ErrandOutcome> {
  const end = Date.now() + (stands ? 0 : WAIT_MS)
  for (;;) {
    const found = await store.errands.get(errand)
    if (found && (found.state === 'done' || found.state === 'refused'))
      return { state: found.state, outcome: found.outcome }
    if (Date.now() >= end) return { state: 'waiting', outcome: null }
    await new Promise(resolve => setTimeout(resolve, LOOK_MS))
  }
}
