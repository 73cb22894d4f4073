import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Dialog } from 'radix-ui'
import { useEffect, useRef, useState } from 'react'
import { keptKeys } from '../api/browser'
import { api, unwrap } from '../api/client'
import { offersOpenID } from '../api/page'
import { box } from '../parts/form'
import { Button, Trouble } from '../parts/ui'
import { useSession, whoWasHere } from './session'

/** Asks whoever was here to sign in again, over the page as it stands: nothing of it is left or lost. */
export function SignInOver() {
  const ended = usePause(useSession() === 'ended')
  return (
    <Dialog.Root open={ended}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-black/40" />
        <Dialog.Content
          aria-describedby="over-about"
          onEscapeKeyDown={(e) => e.preventDefault()}
          onInteractOutside={(e) => e.preventDefault()}
          className="fixed top-1/2 left-1/2 z-30 w-[min(92vw,420px)] -translate-x-1/2 -translate-y-1/2 rounded-sheet border border-line bg-sheet p-5 text-ink"
        >
          <Dialog.Title className="text-large font-semibold">Your session ended</Dialog.Title>
          {ended && <Form />}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

const breath = 800

/** True once something holds and nobody is in the middle of typing: a word is not cut by a question. */
function usePause(holds: boolean): boolean {
  const [open, setOpen] = useState(false)
  const last = useRef(0) // when a key was pressed
  useEffect(() => {
    const note = () => {
      last.current = Date.now()
    }
    window.addEventListener('keydown', note, true)
    return () => window.removeEventListener('keydown', note, true)
  }, [])
  useEffect(() => {
    if (!holds) return setOpen(false)
    const look = () => {
      if (Date.now() - last.current >= breath) setOpen(true)
    }
    look()
    const timer = setInterval(look, 100)
    return () => clearInterval(timer)
  }, [holds])
  return holds && open
}

function Form() {
  const client = useQueryClient()
  const name = whoWasHere()
  const [password, setPassword] = useState('')
  const look = () => client.refetchQueries({ queryKey: ['me'] })
  const signIn = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/session', { body: { name, password } })),
    onSuccess: () => {
      setPassword('')
      void look()
    },
  })
  // Whoever signs in in another tab is here again as soon as this one is looked at.
  useEffect(() => {
    const again = () => void look()
    window.addEventListener('focus', again)
    return () => window.removeEventListener('focus', again)
  })
  const waits = keptKeys().length
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault()
        signIn.mutate()
      }}
    >
      <p id="over-about" className="mt-1 text-ink-2">
        The page stays as it is. Sign in as <span className="font-semibold text-ink">{name}</span> and go on
        {waits > 0 ? '; what you typed is sent then' : ''}.
      </p>
      {signIn.isError && (
        <div className="mt-3">
          <Trouble error={signIn.error} />
        </div>
      )}
      <input type="text" name="username" autoComplete="username" className="hidden" readOnly value={name} />
      <label className="mt-3 block font-semibold">
        Password
        <input
          className={`mt-1 w-full ${box}`}
          name="password"
          type="password"
          autoComplete="current-password"
          autoFocus
          required
          value={password}
          onChange={(e) => setPassword(e.target.value)}
        />
      </label>
      <div className="mt-4 flex flex-wrap items-center justify-end gap-2">
        <a
          className="mr-auto text-small text-ink-2 underline"
          href={`/sign-in?to=${encodeURIComponent(window.location.pathname + window.location.search)}`}
        >
          Somebody else
        </a>
        {offersOpenID() && (
          <a
            href="/sign-in/openid"
            target="_blank"
            rel="noreferrer"
            className="rounded-[6px] border border-line px-3.5 py-1.5 font-semibold no-underline hover:border-ink-2"
          >
            By OpenID Connect, in a new tab
          </a>
        )}
        <Button type="submit" kind="main" disabled={signIn.isPending}>
          {signIn.isPending ? 'Signing in' : 'Sign in and go on'}
        </Button>
      </div>
    </form>
  )
}
