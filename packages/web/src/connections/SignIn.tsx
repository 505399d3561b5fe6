import type { ConnectionInfo } from '@tide/core/api/connections'
import { useEffect, useRef, useState } from 'react'
import { Link, useLocation, useNavigate } from 'react-router'
import { api } from '../api/client.ts'
import { refreshCatalogues, refreshConnections } from '../api/queries.ts'
import { useWhere } from '../frame/crumbs.ts'
import { Button } from '../parts/Button.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'

/** Goes to the app’s own page, on which a person lets us in. */
export function SignInAt({ connection: { id, name, signIn } }: { connection: ConnectionInfo }) {
  const [error, setError] = useState<unknown>()
  if (!signIn) return null
  const go = async () => {
    const { url } = await api<{ url: string }>('POST', `/connections/${id}/sign-in`)
    window.location.assign(url)
  }
  return (
    <div className="mt-2">
      <div className="flex items-baseline gap-3 text-[13px]">
        <Button look={signIn.done ? 'outlined' : 'filled'} onClick={() => void go().catch(setError)}>
          {signIn.done ? 'Sign in again' : `Sign in to ${name}`}
        </Button>
        <span className="text-ink-2">
          {signIn.done
            ? 'Somebody has let us in on its page.'
            : 'Nobody has let us in yet. It asks on a page of its own, and which account that is for.'}
        </span>
      </div>
      <ErrorNotice error={error} />
    </div>
  )
}

/** Back from the app’s page. */
export function SignedIn() {
  useWhere({ title: 'Connections', to: '/connections' }, { title: 'Signed in' })
  const { search } = useLocation()
  const navigate = useNavigate()
  const [error, setError] = useState<unknown>()
  // An answer is good for one time.
  const told = useRef(false)
  useEffect(() => {
    if (told.current) return
    told.current = true
    const finish = async () => {
      const { connection } = await api<{ connection: string }>('POST', '/sign-ins', {
        answer: search.replace(/^\?/, ''),
      })
      await refreshConnections()
      await refreshCatalogues()
      await navigate(`/connections/${connection}`, { replace: true })
    }
    void finish().catch(setError)
  }, [search, navigate])
  return (
    <main className="p-8">
      <h1 className="text-[20px]">{error ? 'Not signed in' : 'Signing in …'}</h1>
      <div className="my-3 max-w-xl">
        <ErrorNotice error={error} />
      </div>
      {error !== undefined && (
        <Link className="font-semibold text-link" to="/connections">
          To the connections
        </Link>
      )}
    </main>
  )
}
