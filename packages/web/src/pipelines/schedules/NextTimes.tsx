import { localTime, type ScheduledTime } from '@tide/core/schedule/times'
import { moment } from '../../format.ts'

/** Times by the clocks of their own time zone. */
export function NextTimes({ times, zone }: { times: readonly ScheduledTime[]; zone: string }) {
  return (
    <ol className="space-y-0.5">
      {times.map(({ at, note }) => (
        <li key={at}>
          <time dateTime={at} title={`${moment(at)} here`} className="font-mono text-[12px]">
            {localTime(new Date(at), zone).replace(',', '')}
          </time>
          {note && <span className="block text-[12px] text-ochre">{note}</span>}
        </li>
      ))}
    </ol>
  )
}
