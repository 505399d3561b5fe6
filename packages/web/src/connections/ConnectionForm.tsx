import type { ConnectionInfo, ConnectorInfo, JsonSchemaProperty } from '@tide/core/api/connections'
import { useState } from 'react'
import { useNavigate, useParams, useSearchParams } from 'react-router'
import { api } from '../api/client.ts'
import type { CheckItem } from '@tide/core/api/browse'
import { refreshConnections, useConnections, useConnectors } from '../api/queries.ts'
import { useWhere } from '../frame/crumbs.ts'
import { Button, ButtonLink } from '../parts/Button.tsx'
import { FindField, SelectField, TextArea, TextField } from '../parts/Field.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { Checks } from './Checks.tsx'

/** Adds a connection from the catalogue, or changes one. */
export function ConnectionForm() {
  const { id } = useParams()
  const [search, setSearch] = useSearchParams()
  const connectors = useConnectors().data
  const connections = useConnections().data
  const present = connections?.find(connection => connection.id === id)
  useWhere(
    { title: 'Connections', to: '/connections' },
    { title: id ? `Change ${present?.name ?? ''}` : 'New connection' },
  )
  const kind = present?.kind ?? search.get('kind')
  const connector = connectors?.find(one => one.kind === kind)
  if (!connectors || (id && !present)) return null
  if (!connector) return <Choice connectors={connectors} choose={chosen => setSearch({ kind: chosen })} />
  return <Settings key={`${kind} ${id}`} connector={connector} present={present} />
}

function Choice({ connectors, choose }: { connectors: ConnectorInfo[]; choose: (kind: string) => void }) {
  const [find, setFind] = useState('')
  const shown = connectors.filter(({ title, summary }) =>
    `${title} ${summary}`.toLowerCase().includes(find.toLowerCase()),
  )
  return (
    <div className="max-w-2xl p-8">
      <h1 className="text-[20px]">Which kind of system?</h1>
      <FindField
        label="Find a kind"
        value={find}
        onChange={event => setFind(event.target.value)}
        className="my-3"
      />
      <ul>
        {shown.map(({ kind, title, summary, roles }) => (
          <li key={kind} className="border-b border-line">
            <button
              type="button"
              className="flex w-full items-baseline gap-4 py-2.5 text-left hover:bg-paper-2"
              onClick={() => choose(kind)}
            >
              <span className="w-28 font-semibold">{title}</span>
              <span className="flex-1 text-ink-2">{summary}</span>
              <span className="text-[13px] text-ink-3">{roles.join(', ')}</span>
            </button>
          </li>
        ))}
      </ul>
    </div>
  )
}

type Values = Record<string, string>

const FIELDS = 'grid grid-cols-2 items-start gap-x-6 gap-y-4'

/** What was asked for may come below the part of the page that is seen. */
const intoView = (element: HTMLElement | null) => element?.scrollIntoView({ block: 'nearest' })

function Settings({ connector, present }: { connector: ConnectorInfo; present: ConnectionInfo | undefined }) {
  const navigate = useNavigate()
  const { properties, required = [] } = connector.configSchema
  const [name, setName] = useState(present?.name ?? '')
  const [values, setValues] = useState<Values>(() =>
    Object.fromEntries(
      Object.entries(properties).map(([key, property]) => [
        key,
        String(present?.config[key] ?? property.default ?? ''),
      ]),
    ),
  )
  const [checks, setChecks] = useState<CheckItem[]>()
  const [busy, setBusy] = useState<'check' | 'save'>()
  const [error, setError] = useState<unknown>()
  const config = Object.fromEntries(
    Object.entries(values).flatMap(([key, value]) => {
      if (value === '' && !properties[key]!.writeOnly) return []
      return [[key, properties[key]!.type === 'integer' ? Number(value) : value]]
    }),
  )
  const work = async (what: 'check' | 'save', body: () => Promise<void>) => {
    setBusy(what)
    setError(undefined)
    try {
      await body()
    } catch (failed) {
      setError(failed)
    } finally {
      setBusy(undefined)
    }
  }
  const check = () =>
    work('check', async () => {
      setChecks(undefined)
      setChecks(
        await api<CheckItem[]>('POST', '/connections/check', {
          id: present?.id,
          kind: connector.kind,
          config,
        }),
      )
    })
  const save = () =>
    work('save', async () => {
      const body = { name: name.trim(), kind: connector.kind, config }
      const saved = await api<ConnectionInfo>(
        present ? 'PUT' : 'POST',
        present ? `/connections/${present.id}` : '/connections',
        body,
      )
      await refreshConnections()
      await navigate(`/connections/${saved.id}`)
    })
  const settings = (advanced: boolean) =>
    Object.entries(properties)
      .filter(([, property]) => !property.hidden && (property.advanced ?? false) === advanced)
      .map(([key, property]) => (
        <Setting
          key={key}
          property={property}
          required={required.includes(key)}
          secretSet={present?.secretsSet.includes(key) ?? false}
          value={values[key]!}
          onChange={value => setValues({ ...values, [key]: value })}
        />
      ))
  return (
    <form
      className="max-w-4xl p-8"
      onSubmit={event => {
        event.preventDefault()
        void save()
      }}
    >
      <div className="space-y-4">
        <h1 className="text-[20px]">
          {present ? `Change ${present.name}` : `New ${connector.title} connection`}
        </h1>
        <div className={FIELDS}>
          <TextField
            label="Name"
            required
            value={name}
            onChange={event => setName(event.target.value)}
            hint="As your colleagues call the system."
          />
          {settings(false)}
        </div>
        {Object.values(properties).some(({ advanced }) => advanced) && (
          <details>
            <summary className="text-[13px] font-semibold text-link">More settings</summary>
            <div className={`mt-3 ${FIELDS}`}>{settings(true)}</div>
          </details>
        )}
        <ErrorNotice error={error} />
        <div className="flex items-center gap-2 pt-2">
          <Button look="filled" type="submit" disabled={busy !== undefined || name.trim() === ''}>
            {busy === 'save' ? 'Saving …' : 'Save'}
          </Button>
          <Button onClick={check} disabled={busy !== undefined}>
            {busy === 'check' ? 'Testing …' : 'Test'}
          </Button>
          <ButtonLink look="text" to={present ? `/connections/${present.id}` : '/connections'}>
            Cancel
          </ButtonLink>
          {name.trim() === '' && (
            <span className="text-[13px] whitespace-nowrap text-ink-2">To save it, give it a name.</span>
          )}
        </div>
      </div>
      <section aria-label="Test" className="pt-6">
        {checks ? (
          <div ref={intoView}>
            <Checks items={checks} />
          </div>
        ) : (
          <p className="text-[13px] text-ink-2">
            {connector.summary} The test goes from the outside in and says what to type where something is
            missing.
          </p>
        )}
      </section>
    </form>
  )
}

const ADDRESS = /^https?:\/\/\S+$/

/** Puts the text that lies at an address in the place of the address. */
function Fetch({ address, take }: { address: string; take: (text: string) => void }) {
  const [error, setError] = useState<unknown>()
  const fetchIt = async () => {
    setError(undefined)
    take((await api<{ text: string }>('POST', '/fetched-text', { address })).text)
  }
  return (
    <>
      <Button type="button" onClick={() => void fetchIt().catch(setError)}>
        Fetch it from there
      </Button>
      <ErrorNotice error={error} />
    </>
  )
}

interface SettingProps {
  property: JsonSchemaProperty
  required: boolean
  secretSet: boolean
  value: string
  onChange: (value: string) => void
}

function Setting({ property, required, secretSet, value, onChange }: SettingProps) {
  if (property.enum) {
    return (
      <SelectField
        label={property.title}
        hint={property.description}
        value={value}
        onChange={event => onChange(event.target.value)}
        options={property.enum.map((option, i) => ({
          value: option,
          title: property.enumTitles?.[i] ?? option,
        }))}
      />
    )
  }
  if (property.multiline) {
    return (
      <div className="col-span-2">
        <TextArea
          label={property.title}
          hint={property.description}
          rows={value.length > 400 ? 14 : 4}
          value={value}
          onChange={event => onChange(event.target.value)}
        />
        <label className="mt-1 flex items-baseline gap-2 text-[12px] text-ink-2">
          or from a file
          <input
            type="file"
            aria-label={`${property.title} from a file`}
            onChange={({ target }) => void target.files?.[0]?.text().then(onChange)}
          />
        </label>
        {property.fetched && ADDRESS.test(value) && <Fetch address={value} take={onChange} />}
      </div>
    )
  }
  return (
    <TextField
      label={property.title}
      hint={property.writeOnly ? 'Kept encrypted; never shown again.' : property.description}
      required={required}
      mono
      type={property.writeOnly ? 'password' : property.type === 'integer' ? 'number' : 'text'}
      autoComplete={property.writeOnly ? 'new-password' : 'off'}
      placeholder={secretSet ? 'as it was' : undefined}
      min={property.minimum}
      max={property.maximum}
      value={value}
      onChange={event => onChange(event.target.value)}
    />
  )
}
