import { useQueryClient } from '@tanstack/react-query'
import { Dialog } from 'radix-ui'
import { useEffect, useRef, useState } from 'react'
import { Link, NavLink, Navigate, Outlet, useLocation, useNavigationType } from 'react-router'
import { forgetPeople, keptKeys } from '../api/browser'
import { useRenewed } from '../api/build'
import { api } from '../api/client'
import { hasSession } from '../api/page'
import { useChanges, useMe, useProposals, useQuiet, useRuns, useStacks, useTemplates } from '../api/queries'
import { SignInOver } from '../session/over'
import { tellTabs, useSession } from '../session/session'
import { useLostAt } from '../stream/connection'
import { Button, Confirmed, Loading, Trouble } from './ui'
import { clock, moment, roleText } from './words'
import { Refusal } from '../api/client'

export function Sail({ size = 20 }: { size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 24 24" aria-hidden="true" className="text-accent">
      <path fill="currentColor" d="M11 3v12H4.5z" />
      <path fill="currentColor" opacity=".55" d="M13 6v9h6z" />
      <path fill="currentColor" d="M3 17h18l-2.5 4h-13z" />
    </svg>
  )
}

/** The frame of every page: where to go, who is here. */
export function Shell() {
  const me = useMe()
  const location = useLocation()
  const way = useNavigationType()
  // What had the focus may be gone with the page before; a link in the frame keeps it.
  useEffect(() => {
    if (way !== 'POP' && document.activeElement === document.body)
      document.getElementById('content')?.focus({ preventScroll: true })
  }, [location.pathname, way])
  if (!hasSession())
    return <Navigate to={`/sign-in?to=${encodeURIComponent(location.pathname + location.search)}`} replace />
  if (me.isPending) return <Loading />
  if (!me.data) {
    if (me.error instanceof Refusal && me.error.problem.status === 401)
      return <Navigate to={`/sign-in?to=${encodeURIComponent(location.pathname + location.search)}`} replace />
    return (
      <div className="p-6">
        <Trouble error={me.error} retry={() => void me.refetch()} />
      </div>
    )
  }
  return (
    <div className="flex min-h-screen max-md:flex-col">
      <a href="#content" className="sr-only focus:not-sr-only focus:absolute focus:z-20 focus:bg-sheet focus:p-2">
        To the content
      </a>
      <nav
        aria-label="Main"
        className="sticky top-0 flex h-screen w-[184px] flex-none flex-col border-r border-line px-3 py-5 max-md:hidden"
      >
        <Link to="/stacks" className="mb-5 flex items-center gap-2.5 px-2.5 text-large font-bold no-underline">
          <Sail />
          Under Sail
        </Link>
        <Places />
        <div className="mt-auto px-2.5 text-small text-ink-2">
          <div>{me.data.full_name || me.data.name}</div>
          <div className="mb-2">{roleText(me.data.roles)}</div>
          <Theme />
          <SignOut />
        </div>
      </nav>
      <header className="flex items-center justify-between border-b border-line px-3 py-2 md:hidden print:hidden">
        <Link to="/stacks" className="flex items-center gap-2 font-bold no-underline">
          <Sail />
          Under Sail
        </Link>
        <Menu name={me.data.full_name || me.data.name} roles={me.data.roles} />
      </header>
      <main id="content" tabIndex={-1} className="min-w-0 flex-1 px-6 py-5 outline-none max-md:px-3 max-md:py-3">
        <Lost />
        <Renewed />
        <QuietNote />
        <Outlet />
      </main>
      <SignInOver />
    </div>
  )
}

/** On a phone the places lie behind one button. */
function Menu({ name, roles }: { name: string; roles: string[] }) {
  const [open, setOpen] = useState(false)
  const location = useLocation()
  useEffect(() => setOpen(false), [location])
  return (
    <Dialog.Root open={open} onOpenChange={(on) => setOpen(on)}>
      <Dialog.Trigger asChild>
        <Button>Menu</Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed inset-x-0 top-0 max-h-screen overflow-auto border-b border-line bg-paper p-4 text-ink"
        >
          <div className="mb-3 flex items-center justify-between">
            <Dialog.Title className="font-bold">
              {name}, {roleText(roles)}
            </Dialog.Title>
            <Dialog.Close asChild>
              <Button>Close</Button>
            </Dialog.Close>
          </div>
          <nav aria-label="Places">
            <PlaceList />
          </nav>
          <div className="mt-3 flex gap-5 px-2.5">
            <Theme />
            <SignOut />
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

/** Says that what is shown may be old, for as long as the service cannot be heard. */
function Lost() {
  const since = useLostAt()
  const ended = useSession() === 'ended' // then it is not the service that is away
  const [late, setLate] = useState(false)
  useEffect(() => {
    setLate(false)
    if (since === null) return
    const t = setTimeout(() => setLate(true), 1500) // a blink is not worth a word
    return () => clearTimeout(t)
  }, [since])
  if (since === null || !late || ended) return null
  return (
    <p role="status" className="mb-3 rounded-sheet border border-settling bg-settling-soft px-3.5 py-2">
      <span className="font-semibold">The service cannot be heard since {clock(since)}.</span> What you see is of then;
      this page tries again by itself, and misses nothing.
    </p>
  )
}

/** Says that the service was renewed under the page; whatever is opened next is loaded from the new one. */
function Renewed() {
  const renewed = useRenewed()
  const { pathname } = useLocation()
  const at = useRef(pathname)
  useEffect(() => {
    if (renewed && at.current !== pathname) window.location.reload()
    at.current = pathname
  }, [renewed, pathname])
  if (!renewed) return null
  return (
    <p
      role="status"
      className="mb-3 flex flex-wrap items-center gap-3 rounded-sheet border border-line bg-sheet px-3.5 py-2"
    >
      <span className="min-w-0 flex-1">The service was renewed, and this page is of the version before.</span>
      <Button small onClick={() => window.location.reload()}>
        Load it anew
      </Button>
    </p>
  )
}

/** Says that the service changes nothing, since its records may be a copy, and what differs. */
function QuietNote() {
  const quiet = useQuiet().data
  if (!quiet?.why) return null
  const n = quiet.differs.length
  return (
    <div role="status" className="mb-3 rounded-sheet border border-settling bg-settling-soft px-3.5 py-2">
      <p>
        <span className="font-semibold">This service is quiet and changes nothing:</span> {quiet.why}. Its records are
        of {moment(quiet.since)}.
      </p>
      {!quiet.looked && <p>It is looking at every stack.</p>}
      {quiet.looked && n === 0 && <p>Everything in the clouds is as it is recorded.</p>}
      {n > 0 && (
        <details>
          <summary>
            {n} {n === 1 ? 'thing is' : 'things are'} otherwise in the clouds
          </summary>
          <ul className="mt-1 space-y-0.5">
            {quiet.differs.map((d, i) => (
              <li key={i}>
                <span className="font-semibold">{[d.stack, d.resource].filter(Boolean).join(' / ') || d.account}</span>{' '}
                {d.how}: {d.what}
                {d.by && `, by ${d.by}`}
              </li>
            ))}
          </ul>
        </details>
      )}
      <p>
        If this copy is the one that goes on, end every other one, and start it once with{' '}
        <code>undersail serve --in-charge</code>.
      </p>
    </div>
  )
}

function Places() {
  useChanges()
  return <PlaceList />
}

function PlaceList() {
  const stacks = useStacks()
  const runs = useRuns()
  const proposals = useProposals()
  const templates = useTemplates()
  const places = [
    { to: '/stacks', word: 'Stacks', count: stacks.data?.length },
    { to: '/prepare', word: 'Prepare', count: undefined },
    { to: '/proposals', word: 'Proposals', count: proposals.data?.filter((p) => p.state === 'open').length },
    { to: '/runs', word: 'Runs', count: runs.data?.filter((r) => !r.ended_at).length },
    { to: '/library', word: 'Library', count: templates.data?.length },
    { to: '/accounts', word: 'Accounts', count: undefined },
    { to: '/secrets', word: 'Secrets and keys', count: undefined },
    { to: '/people', word: 'People', count: undefined },
    { to: '/tokens', word: 'Tokens', count: undefined },
    { to: '/audit', word: 'Audit', count: undefined },
  ]
  return (
    <ul className="space-y-0.5">
      {places.map((p) => (
        <li key={p.to}>
          <NavLink
            to={p.to}
            className={({ isActive }) =>
              `flex justify-between gap-2 rounded-[6px] px-2.5 py-1.5 no-underline ${isActive ? 'bg-accent-soft font-semibold text-accent' : 'text-ink-2 hover:text-ink'}`
            }
          >
            {p.word}
            <span className="text-small">{p.count ? p.count : ''}</span>
          </NavLink>
        </li>
      ))}
    </ul>
  )
}

const themes = ['as the system', 'light', 'dark'] as const

function Theme() {
  const [theme, setTheme] = useState<string>(() => localStorage.getItem('theme') ?? themes[0])
  useEffect(() => {
    if (theme === themes[0]) delete document.documentElement.dataset.theme
    else document.documentElement.dataset.theme = theme
    localStorage.setItem('theme', theme)
  }, [theme])
  const next = themes[(themes.indexOf(theme as (typeof themes)[number]) + 1) % themes.length] ?? themes[0]
  return (
    <button
      type="button"
      className="block text-small underline"
      title={`Change to ${next}`}
      onClick={() => setTheme(next)}
    >
      Colours: {theme}
    </button>
  )
}

function SignOut() {
  const client = useQueryClient()
  const [asks, setAsks] = useState<string[]>([])
  const leave = () =>
    void api.DELETE('/api/v1/session').finally(() => {
      client.clear()
      forgetPeople()
      tellTabs()
      window.location.replace('/sign-in')
    })
  return (
    <>
      <button
        type="button"
        className="block text-small underline"
        onClick={() => {
          const kept = keptKeys()
          if (kept.length > 0) setAsks(kept)
          else leave()
        }}
      >
        Sign out
      </button>
      <Confirmed
        open={asks.length > 0}
        title="Sign out and lose what is typed?"
        onClose={() => setAsks([])}
        action={
          <Button kind="danger" onClick={leave}>
            Sign out and lose it
          </Button>
        }
      >
        Nothing of you stays in this browser then. The service does not have yet: {asks.map(inWords).join(', ')}.
      </Confirmed>
    </>
  )
}

/** What is kept in the browser, as a person calls it. */
const inWords = (key: string) =>
  key.startsWith('text ')
    ? `your text of ${key.slice(5)}`
    : key.startsWith('draft ')
      ? 'the last changes of a draft'
      : key
