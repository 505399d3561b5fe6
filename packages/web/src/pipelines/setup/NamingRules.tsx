import type { NamingRule } from '@tide/core/naming/rule'
import type { ReactNode } from 'react'
import { plural } from '../../format.ts'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'
import { OrderedList } from '../../parts/OrderedList.tsx'
import { choiceOf, DEEDS, textOf, withText } from './deeds.ts'

const NAMES = ['all', 'schemas', 'tables', 'columns'] as const

interface NamingRulesProps {
  rules: readonly NamingRule[]
  /** By rule, how many names it changes, where that is known. */
  byRule: readonly number[] | undefined
  change: (rules: NamingRule[]) => void
}

/** The rules in their order, each in two lines: which names, and what becomes of them. */
export function NamingRules({ rules, byRule, change }: NamingRulesProps) {
  return (
    <OrderedList
      label="Naming rules"
      one="rule"
      items={rules}
      change={change}
      line={(rule, number, set, buttons) => (
        <RuleLines
          number={number}
          rule={rule}
          change={set}
          foot={
            <>
              <span className="ml-auto whitespace-nowrap text-ink-2">
                {byRule && plural(byRule[number - 1] ?? 0, 'name')}
              </span>
              {buttons}
            </>
          }
        />
      )}
    />
  )
}

function RuleLines({
  number,
  rule,
  change,
  foot,
}: {
  number: number
  rule: NamingRule
  change: (rule: NamingRule) => void
  foot: ReactNode
}) {
  const { names, like, does } = rule
  const choice = choiceOf(does)
  return (
    <>
      <div className="flex items-baseline gap-2">
        <b className="w-4">{number}</b>
        <InlineSelect
          label={`Names of rule ${number}`}
          value={names}
          options={NAMES.map(value => ({ value, title: value === 'all' ? 'all names' : value }))}
          onChange={event => change({ ...rule, names: event.target.value as NamingRule['names'] })}
        />
        <span className="text-ink-2">like</span>
        <InlineField
          label={`Pattern of rule ${number}`}
          className="min-w-0 flex-1"
          placeholder="any"
          value={like ?? ''}
          onChange={event => {
            const like = event.target.value
            change({ names, does, ...(like === '' ? {} : { like }) })
          }}
        />
      </div>
      <div className="mt-1 flex items-baseline gap-2 pl-6">
        <InlineSelect
          label={`Deed of rule ${number}`}
          value={choice.title}
          options={DEEDS.map(({ title }) => ({ value: title, title }))}
          onChange={event =>
            change({ ...rule, does: DEEDS.find(({ title }) => title === event.target.value)!.begin })
          }
        />
        {choice.fields.map(one => (
          <InlineField
            key={one.of}
            label={`${one.label} of rule ${number}`}
            className="w-28 min-w-0 flex-initial"
            value={textOf(does, one)}
            onChange={event => change({ ...rule, does: withText(does, one, event.target.value) })}
          />
        ))}
        {foot}
      </div>
    </>
  )
}
