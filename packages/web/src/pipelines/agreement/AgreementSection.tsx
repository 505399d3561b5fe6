import type { ReplicationStatus } from '@tide/core/api/pipelines'
import { agrees } from '@tide/core/definition/verification'
import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useOutletContext } from 'react-router'
import { api } from '../../api/client.ts'
import { plural } from '../../format.ts'
import { Button, TextButton } from '../../parts/Button.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { Differences } from './Differences.tsx'
import { Earlier } from './Earlier.tsx'
import { LaneResults } from './LaneResults.tsx'
import { isGoing, newestOf, useVerifications } from './useVerifications.ts'
import { VerifyDialog } from './VerifyDialog.tsx'

/** Whether both sides agree: what was found last of each lane, row by row where they do not. */
export function AgreementSection() {
  const pipeline = useOutletContext<ReplicationStatus>()
  const { id, lanes, state, definition } = pipeline
  const verifications = useVerifications(id)
  const queries = useQueryClient()
  const [chosen, setChosen] = useState<number>()
  const [error, setError] = useState<unknown>()
  const all = verifications.data ?? []
  const going = all.filter(isGoing)
  const results = lanes.map((_, lane) => newestOf(all, lane))
  const shown = chosen === undefined ? undefined : results[chosen]?.newest
  const runs =
    (state === 'Following' || state === 'Copying') &&
    definition.does !== 'structure' &&
    definition.does !== 'archive'
  const end = async () => {
    setError(undefined)
    for (const one of going) await api('POST', `/pipelines/${id}/verifications/${one.id}/end`)
    await queries.invalidateQueries({ queryKey: ['verifications', id] })
  }
  if (lanes.length === 0)
    return <p className="py-6 text-ink-2">Nothing has been copied yet, so there is nothing to compare.</p>
  return (
    <section className="py-3" aria-label="Agreement of both sides">
      <div className="mb-3 flex items-start gap-3">
        <p className="min-w-0 flex-1">
          <Summary results={results} />
        </p>
        {going.length > 0 && (
          <TextButton onClick={() => void end().catch(setError)}>End the verification</TextButton>
        )}
        {runs && going.length === 0 && (
          <VerifyDialog pipeline={pipeline} lanes={[]} trigger={<Button>Verify …</Button>} />
        )}
      </div>
      <ErrorNotice error={error ?? verifications.error} />
      {shown && <Differences key={`${shown.verification.id} ${shown.lane}`} pipeline={pipeline} of={shown} />}
      <LaneResults pipeline={pipeline} results={results} chosen={chosen} choose={setChosen} runs={runs} />
      <Earlier verifications={all} />
    </section>
  )
}

function Summary({ results }: { results: ReturnType<typeof newestOf>[] }) {
  const said = results.map(({ newest, before }) => {
    const last = newest && newest.verified.state === 'done' ? newest : before
    return last ? agrees(last.verified) : undefined
  })
  const known = said.filter(one => one !== undefined)
  const agree = said.filter(one => one === true).length
  const differ = said.filter(one => one === false).length
  if (known.length === 0)
    return (
      <>
        <b>Not verified yet.</b>{' '}
        <span className="text-ink-2">
          A verification reads both sides while changes go on, and names every row of which they do not agree.
        </span>
      </>
    )
  return (
    <>
      <b className={differ > 0 ? 'text-buoy' : ''}>
        {agree === results.length
          ? `Both sides agree, in ${results.length === 1 ? 'the one lane' : `all ${plural(agree, 'lane')}`}.`
          : differ > 0
            ? `${plural(differ, 'lane does', 'lanes do')} not agree.`
            : `${plural(agree, 'lane agrees', 'lanes agree')}.`}
      </b>{' '}
      <span className="text-ink-2">
        {differ > 0 && agree > 0 && `${plural(agree, 'other agrees', 'others agree')}. `}
        {results.length - agree - differ > 0 &&
          `Of ${plural(results.length - agree - differ, 'lane')} it is not known.`}
      </span>
    </>
  )
}
