import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import { api, unwrap } from '../api/client'
import { noteSession, offersOpenID } from '../api/page'
import { tellTabs } from '../session/session'
import { Entrance, EntryForm, entry } from '../parts/entrance'
import { Trouble } from '../parts/ui'

export function SignIn() {
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const [params] = useSearchParams()
  const navigate = useNavigate()
  const client = useQueryClient()
  const signIn = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/session', { body: { name, password } })),
    onSuccess: () => {
      client.clear()
      noteSession()
      tellTabs()
      const to = params.get('to') ?? '/stacks'
      // Only places of this console: an address from elsewhere is not followed.
      void navigate(to.startsWith('/') && !to.startsWith('//') ? to : '/stacks', { replace: true })
    },
  })
  return (
    <Entrance title="Under Sail" words="Sign in">
      <EntryForm
        onSend={() => signIn.mutate()}
        busy={signIn.isPending}
        submit="Sign in"
        sending="Signing in"
        below={
          offersOpenID() && (
            <a
              href="/sign-in/openid"
              className="mt-3 block w-full rounded-[6px] border border-line px-3.5 py-2 text-center font-semibold no-underline hover:border-accent"
            >
              Sign in by OpenID Connect
            </a>
          )
        }
      >
        {signIn.isError && (
          <div className="mb-4">
            <Trouble error={signIn.error} />
          </div>
        )}
        <label className="block font-semibold">
          Name
          <input
            className={entry}
            name="name"
            autoComplete="username"
            autoFocus
            required
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </label>
        <label className="mt-4 block font-semibold">
          Password
          <input
            className={entry}
            name="password"
            type="password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </label>
      </EntryForm>
      <p className="mt-4 text-small text-ink-2">
        Render a template, see exactly what it would make, and know that every resource reached a healthy state.
      </p>
    </Entrance>
  )
}
