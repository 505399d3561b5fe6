/** What people ask of a running pipeline: drained between its pieces of work by the engine that holds it. */
import type { Errand } from '@tide/core/definition/errand'
import { asFailure } from '@tide/core/failure'
import type { EngineParts } from './parts.ts'

/**
 * Carries out what waits, in the order in which it was asked. What fails for a while waits on, and is thrown; what cannot be
 * done is over, with the reason. Repeating one that was cut off must be safe.
 */
export async function carryOut(
  { errands, surroundings }: Pick<EngineParts, 'errands' | 'surroundings'>,
  pipeline: string,
  holder: string,
  act: (errand: Errand) => Promise<string>,
): Promise<void> {
  const iso = () => new Date(surroundings.now()).toISOString()
  for (const errand of await errands.waiting(pipeline)) {
    if (!(await errands.begin(errand.id, holder, iso()))) return
    try {
      const outcome = await act(errand)
      await errands.end(errand.id, { state: 'done', outcome, endedAt: iso() })
    } catch (thrown) {
      const { kind, message } = asFailure(thrown)
      if (kind !== 'refused') throw thrown
      await errands.end(errand.id, { state: 'refused', outcome: message, endedAt: iso() })
    }
  }
}
