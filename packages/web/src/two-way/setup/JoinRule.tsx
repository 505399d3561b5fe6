import type { AppField } from '@tide/core/app/object'
import type { TwoWayJoin } from '@tide/core/definition/two-way'
import { TextButton } from '../../parts/Button.tsx'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'
import type { Called } from '../said.ts'
import { ValueMapTable } from './ValueMapTable.tsx'

interface JoinRuleProps {
  join: TwoWayJoin
  fields: { a: AppField; b: AppField }
  called: Called
  put: (part: Partial<TwoWayJoin>) => void
}

type Kind = 'as it is' | 'mapped' | 'affixed' | 'attributed' | 'set'

const SAID: Record<Kind, string> = {
  'as it is': 'as it is',
  mapped: 'by a value map',
  affixed: 'with text around it',
  attributed: 'with who said it before it',
  set: 'as a set, element by element',
}

/** How values of one side are said on the other. */
export function JoinRule({ join, fields, called, put }: JoinRuleProps) {
  const { rule } = join
  const kind: Kind = rule?.as ?? 'as it is'
  const isText = fields.a.type.kind === 'utf8' && fields.b.type.kind === 'utf8'
  const isSet = fields.a.type.kind === 'list' && fields.b.type.kind === 'list'
  const refers = fields.a.refers !== null || fields.b.refers !== null
  const kinds: Kind[] = refers
    ? ['as it is']
    : isSet
      ? ['set']
      : isText
        ? ['as it is', 'mapped', 'affixed', 'attributed']
        : ['as it is', 'mapped']
  const choose = (next: Kind) => {
    if (next === 'mapped')
      return put({ rule: { as: 'mapped', map: { pairs: begun(fields), others: 'held' } } })
    if (next === 'affixed')
      return put({ rule: { as: 'affixed', affix: { on: 'b', before: '{id} ', behind: '' } } })
    if (next === 'attributed') return put({ rule: { as: 'attributed', a: '{id}: ', b: '{id}: ' } })
    put({ rule: next === 'set' ? { as: 'set', others: 'made there' } : undefined })
  }
  return (
    <div className="mt-2">
      {kinds.length > 1 && (
        <label className="flex items-baseline gap-2">
          Values are said
          <InlineSelect
            label={`How values of ${join.a} are said`}
            value={kind}
            options={kinds.map(value => ({ value, title: SAID[value] }))}
            onChange={({ target }) => choose(target.value as Kind)}
          />
        </label>
      )}
      {rule?.as === 'mapped' && (
        <ValueMapTable join={join} rule={rule} fields={fields} called={called} put={put} />
      )}
      {rule?.as === 'affixed' && (
        <p className="mt-2 flex flex-wrap items-baseline gap-2">
          in
          <InlineSelect
            label={`Where text stands around ${join.a}`}
            value={rule.affix.on}
            options={(['a', 'b'] as const).map(value => ({ value, title: called[value] }))}
            onChange={({ target }) =>
              put({ rule: { as: 'affixed', affix: { ...rule.affix, on: target.value as 'a' | 'b' } } })
            }
          />
          before it
          <InlineField
            label={`Text before ${join.a}`}
            className="w-28"
            value={rule.affix.before}
            onChange={({ target }) =>
              put({ rule: { as: 'affixed', affix: { ...rule.affix, before: target.value } } })
            }
          />
          behind it
          <InlineField
            label={`Text behind ${join.a}`}
            className="w-28"
            value={rule.affix.behind}
            onChange={({ target }) =>
              put({ rule: { as: 'affixed', affix: { ...rule.affix, behind: target.value } } })
            }
          />
          <span className="text-ink-2">
            {'{field}'} stands for a field of {called[rule.affix.on === 'a' ? 'b' : 'a']}.
          </span>
        </p>
      )}
      {rule?.as === 'attributed' && (
        <p className="mt-2 flex flex-wrap items-baseline gap-2">
          {(['a', 'b'] as const).map(side => (
            <span key={side} className="flex items-baseline gap-2">
              before what comes from {called[side]}
              <InlineField
                label={`Text before ${join[side]} of ${called[side]}`}
                className="w-44"
                value={rule[side]}
                onChange={({ target }) => put({ rule: { ...rule, [side]: target.value } })}
              />
            </span>
          ))}
          <span className="text-ink-2">
            {'{field}'} stands for a field of the record where it started; what stands before it is taken off
            again when it is edited.
          </span>
        </p>
      )}
      {isSet && (
        <label className="flex items-baseline gap-2">
          Elements that the other side does not have
          <InlineSelect
            label={`Other elements of ${join.a}`}
            value={rule?.as === 'set' ? rule.others : 'made there'}
            options={[
              { value: 'made there', title: 'are made there' },
              { value: 'left', title: 'are left out' },
              { value: 'held', title: 'wait for a person' },
            ]}
            onChange={({ target }) =>
              put({
                rule: {
                  ...(rule?.as === 'set' ? rule : { as: 'set' }),
                  others: target.value as 'made there' | 'left' | 'held',
                },
              })
            }
          />
          {rule && <TextButton onClick={() => put({ rule: undefined })}>as usual</TextButton>}
        </label>
      )}
    </div>
  )
}

/** Every choice of A with the first of B that is called the same. */
function begun({ a, b }: { a: AppField; b: AppField }) {
  return (a.choices ?? []).map(value => ({
    a: value,
    b: b.choices?.find(one => one === value) ?? b.choices?.[0] ?? '',
  }))
}
