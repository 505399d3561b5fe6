/** Verifications in memory, kept as the store keeps them. */
import {
  NOTHING_VERIFIED,
  type AskedLane,
  type AskedVerification,
  type KeptDifference,
  type LaneVerified,
} from '@tide/core/definition/verification'
import type { VerificationRepository } from '../src/repositories.ts'

const OVER = ['done', 'failed', 'ended']

interface Lane extends AskedLane {
  run: string
  verified: LaneVerified
}

export class MemoryVerifications implements VerificationRepository {
  readonly lanes: Lane[] = []
  differences: KeptDifference[] = []
  private ids = 0

  ask: VerificationRepository['ask'] = async ({ id, level, pace, lanes }: AskedVerification) => {
    for (const { run, index } of lanes)
      this.lanes.push({ verification: id, run, index, level, pace, verified: NOTHING_VERIFIED })
  }

  asked: VerificationRepository['asked'] = async run =>
    this.lanes.filter(lane => lane.run === run && !OVER.includes(lane.verified.state))

  tell: VerificationRepository['tell'] = async (run, asked, verified) => {
    const lane = this.lanes.find(
      one => one.run === run && one.verification === asked.verification && one.index === asked.index,
    )!
    if (OVER.includes(lane.verified.state)) return false
    lane.verified = verified
    return true
  }

  begin: VerificationRepository['begin'] = async (_, { verification, index }) => {
    this.differences = this.differences.filter(one => one.verification !== verification || one.lane !== index)
  }

  keep: VerificationRepository['keep'] = async (_, { verification, index }, differences) => {
    for (const { key, kind, columns } of differences)
      this.differences.push({
        id: ++this.ids,
        verification,
        lane: index,
        key,
        kind,
        columns,
        repairedAt: null,
      })
  }

  toRepair: VerificationRepository['toRepair'] = async (_, { verification, index, ids }) =>
    this.differences.filter(
      one =>
        one.verification === verification &&
        one.lane === index &&
        one.repairedAt === null &&
        (ids.length === 0 || ids.includes(one.id)),
    )

  repaired: VerificationRepository['repaired'] = async (ids, at) => {
    for (const one of this.differences) if (ids.includes(one.id)) one.repairedAt = at
  }
}
