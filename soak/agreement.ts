/** Verifications of a soak: of what nobody has touched none may say that it differs, and in the end all is found and repaired. */
import type { VerificationAnswer } from '@tide/core/api/verification'
import { agrees, differing } from '@tide/core/definition/verification'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { eventually } from '../e2e/server.ts'

const VERIFIED_WITHIN_S = 240

/** Verifies a pipeline, repairs what differs, and verifies again; returns how many lanes do not agree then. */
export async function putRight(url: string, pipeline: string, say: (line: string) => void): Promise<number> {
  const { id, lanes } = await verified(url, pipeline)
  for (const { lane, target, verified } of lanes) {
    if (differing(verified) === 0) continue
    say(`${differing(verified)} rows of ${target.name} were taken away`)
    await call(url, 'POST', `/pipelines/${pipeline}/verifications/${id}/lanes/${lane}/repair`, {})
  }
  const again = await verified(url, pipeline)
  const wrong = again.lanes.filter(({ verified }) => agrees(verified) !== true)
  for (const { target, verified } of wrong) say(`${target.name} does not agree: ${JSON.stringify(verified)}`)
  return wrong.length
}

/** Lanes that some verification has said to differ. */
export async function saidToDiffer(url: string, pipeline: string): Promise<VerificationAnswer['lanes']> {
  const all = await call<VerificationAnswer[]>(url, 'GET', `/pipelines/${pipeline}/verifications`)
  return all.flatMap(({ level, lanes }) =>
    lanes.filter(({ verified }) =>
      level === 'rows' ? differing(verified) > 0 : agrees(verified) === false && verified.state === 'done',
    ),
  )
}

async function verified(url: string, pipeline: string): Promise<VerificationAnswer> {
  const begun = await call<{ id: string }>(url, 'POST', `/pipelines/${pipeline}/verifications`, {})
  return eventually(
    async () => {
      const all = await call<VerificationAnswer[]>(url, 'GET', `/pipelines/${pipeline}/verifications`)
      const found = all.find(({ id }) => id === begun.id)!
      return found.lanes.every(({ verified }) => verified.endedAt !== null) && found
    },
    VERIFIED_WITHIN_S,
    'the verification',
  )
}
