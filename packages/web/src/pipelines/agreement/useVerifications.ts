import type { VerificationAnswer } from '@tide/core/api/verification'
import type { LaneVerified } from '@tide/core/definition/verification'
import { useQuery } from '@tanstack/react-query'
import { api } from '../../api/client.ts'

const GOING_MS = 1_000
const QUIET_MS = 10_000

export type VerifiedLane = VerificationAnswer['lanes'][number] & { verification: VerificationAnswer }

/** Those of a pipeline, the newest first. */
export function useVerifications(pipeline: string) {
  return useQuery({
    queryKey: ['verifications', pipeline],
    queryFn: () => api<VerificationAnswer[]>('GET', `/pipelines/${pipeline}/verifications`),
    refetchInterval: ({ state }) => (state.data?.some(isGoing) ? GOING_MS : QUIET_MS),
  })
}

export function isGoing({ lanes }: VerificationAnswer): boolean {
  return lanes.some(({ verified }) => !isOver(verified))
}

export function isOver({ state }: LaneVerified): boolean {
  return state === 'done' || state === 'failed' || state === 'ended'
}

/** Of each lane what was said of it last; `before`: its last result, where that is under way. */
export function newestOf(
  verifications: readonly VerificationAnswer[],
  lane: number,
): { newest: VerifiedLane | undefined; before: VerifiedLane | undefined } {
  const of = verifications.flatMap(verification =>
    verification.lanes.filter(one => one.lane === lane).map(one => ({ ...one, verification })),
  )
  const [newest] = of
  return { newest, before: of.slice(1).find(({ verified }) => verified.state === 'done') }
}
