import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import { api, unwrap } from '../api/client'
import { noteSession, offersOpenID } from '../api/page'
import { Sail } from '../parts/shell'
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
      const to = params.get('to') ?? '/stacks'
      // Only places of this console: an address from elsewhere is not followed.
      void navigate(to.startsWith('/') && !to.startsWith('//') ? to : '/stacks', { replace: true })
    },
  })
  const field = 'mt-1 w-full rounded-[6px] border border-line bg-paper px-3 py-2 text-ink focus:border-accent'
  return (
    <main className="grid min-h-screen place-items-center px-4">
      <div className="w-full max-w-[360px]">
        <div className="mb-6 flex items-center gap-3"><Sail size={30} /><h1 className="text-title font-bold">Under Sail</h1></div>
        <form className="rounded-sheet border border-line bg-sheet p-5" onSubmit={(e) => { e.preventDefault(); signIn.mutate() }}>
          {signIn.isError && <div className="mb-4"><Trouble error={signIn.error} /></div>}
          <label className="block font-semibold">Name<input className={field} name="name" autoComplete="username" autoFocus required value={name} onChange={(e) => setName(e.target.value)} /></label>
          <label className="mt-4 block font-semibold">Password<input className={field} name="password" type="password" autoComplete="current-password" required value={password} onChange={(e) => setPassword(e.target.value)} /></label>
          <button type="submit" disabled={signIn.isPending} className="mt-5 w-full rounded-[6px] border border-accent bg-accent px-3.5 py-2 font-semibold text-on-accent hover:opacity-90 disabled:opacity-60">
            {signIn.isPending ? 'Signing in' : 'Sign in'}
          </button>
          {offersOpenID() && <a href="/sign-in/openid" className="mt-3 block w-full rounded-[6px] border border-line px-3.5 py-2 text-center font-semibold no-underline hover:border-accent">Sign in by OpenID Connect</a>}
        </form>
        <p className="mt-4 text-small text-ink-2">Render a template, see exactly what it would make, and know that every resource reached a healthy state.</p>
      </div>
    </main>
  )
}
