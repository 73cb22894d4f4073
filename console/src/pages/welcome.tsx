import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { api, unwrap } from '../api/client'
import { noteSession } from '../api/page'
import { Entrance, EntryForm, entry } from '../parts/entrance'
import { Loading, Trouble } from '../parts/ui'
import { roleText } from '../parts/words'

/** Where an invitation leads: its code stands behind #, which no server sees. */
export default function WelcomePage() {
  const [code] = useState(() => window.location.hash.slice(1))
  const [password, setPassword] = useState('')
  const [again, setAgain] = useState('')
  const navigate = useNavigate()
  const client = useQueryClient()
  const who = useQuery({
    queryKey: ['invitation', code],
    queryFn: () => unwrap(api.POST('/api/v1/invitations/look', { body: { code } })),
    retry: false,
    staleTime: Infinity,
  })
  const take = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/invitations/take', { body: { code, password } })),
    onSuccess: () => {
      client.clear()
      noteSession()
      void navigate('/stacks', { replace: true })
    },
  })
  const differ = again !== '' && again !== password
  return (
    <Entrance title="Welcome aboard" words="Welcome aboard">
      {who.isPending && <Loading rows={3} />}
      {who.isError && (
        <>
          <Trouble error={who.error} />
          <p className="mt-4">
            <Link to="/sign-in">Sign in</Link>
          </p>
        </>
      )}
      {who.data && (
        <EntryForm
          onSend={() => take.mutate()}
          busy={take.isPending}
          ready={!differ}
          submit="Set the password and sign in"
          sending="Setting it"
        >
          <p>
            You are <span className="font-semibold">{who.data.full_name || who.data.name}</span>, and your role is{' '}
            {roleText(who.data.roles)}. Sign in from now on as <code className="font-mono">{who.data.name}</code> with a
            password that you choose.
          </p>
          {take.isError && (
            <div className="mt-4">
              <Trouble error={take.error} />
            </div>
          )}
          <input
            type="text"
            name="username"
            autoComplete="username"
            className="hidden"
            readOnly
            value={who.data.name}
          />
          <label className="mt-4 block font-semibold">
            Password
            <input
              className={entry}
              type="password"
              autoComplete="new-password"
              autoFocus
              required
              minLength={12}
              value={password}
              onChange={(e) => setPassword(e.target.value)}
              aria-describedby="password-rules"
            />
          </label>
          <p id="password-rules" className="mt-1 text-small text-ink-2">
            12 characters or more; some words that nobody would say together.
          </p>
          <label className="mt-4 block font-semibold">
            Once more
            <input
              className={entry}
              type="password"
              autoComplete="new-password"
              required
              value={again}
              onChange={(e) => setAgain(e.target.value)}
              aria-invalid={differ}
            />
          </label>
          {differ && (
            <p role="alert" className="mt-1 text-small text-bad">
              The two are not the same.
            </p>
          )}
        </EntryForm>
      )}
    </Entrance>
  )
}
