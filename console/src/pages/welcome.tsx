import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { api, unwrap } from '../api/client'
import { noteSession } from '../api/page'
import { Sail } from '../parts/shell'
import { Loading, Trouble } from '../parts/ui'

/** Where an invitation leads: its code stands behind #, which no server sees. */
export default function WelcomePage() {
  const [code] = useState(() => window.location.hash.slice(1))
  const [password, setPassword] = useState('')
  const [again, setAgain] = useState('')
  const navigate = useNavigate()
  const client = useQueryClient()
  const who = useQuery({ queryKey: ['invitation', code], queryFn: () => unwrap(api.POST('/api/v1/invitations/look', { body: { code } })), retry: false, staleTime: Infinity })
  const take = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/invitations/take', { body: { code, password } })),
    onSuccess: () => { client.clear(); noteSession(); void navigate('/stacks', { replace: true }) },
  })
  const differ = again !== '' && again !== password
  const field = 'mt-1 w-full rounded-[6px] border border-line bg-paper px-3 py-2 text-ink focus:border-accent'
  return (
    <main className="grid min-h-screen place-items-center px-4">
      <div className="w-full max-w-[400px]">
        <div className="mb-6 flex items-center gap-3"><Sail size={30} /><h1 className="text-title font-bold">Welcome aboard</h1></div>
        {who.isPending && <Loading rows={3} />}
        {who.isError && <><Trouble error={who.error} /><p className="mt-4"><Link to="/sign-in">Sign in</Link></p></>}
        {who.data && (
          <form className="rounded-sheet border border-line bg-sheet p-5" onSubmit={(e) => { e.preventDefault(); if (!differ) take.mutate() }}>
            <p>You are <span className="font-semibold">{who.data.full_name || who.data.name}</span>, and your role is {who.data.roles.map((r) => r.replace('@', ' in ')).join(', ')}. Sign in from now on as <code className="font-mono">{who.data.name}</code> with a password that you choose.</p>
            {take.isError && <div className="mt-4"><Trouble error={take.error} /></div>}
            <input type="text" name="username" autoComplete="username" className="hidden" readOnly value={who.data.name} />
            <label className="mt-4 block font-semibold">Password<input className={field} type="password" autoComplete="new-password" autoFocus required minLength={12} value={password} onChange={(e) => setPassword(e.target.value)} aria-describedby="password-rules" /></label>
            <p id="password-rules" className="mt-1 text-small text-ink-2">12 characters or more; some words that nobody would say together.</p>
            <label className="mt-4 block font-semibold">Once more<input className={field} type="password" autoComplete="new-password" required value={again} onChange={(e) => setAgain(e.target.value)} aria-invalid={differ} /></label>
            {differ && <p role="alert" className="mt-1 text-small text-bad">The two are not the same.</p>}
            <button type="submit" disabled={take.isPending || differ} className="mt-5 w-full rounded-[6px] border border-accent bg-accent px-3.5 py-2 font-semibold text-on-accent hover:opacity-90 disabled:opacity-60">{take.isPending ? 'Setting it' : 'Set the password and sign in'}</button>
          </form>
        )}
      </div>
    </main>
  )
}
