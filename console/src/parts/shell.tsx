import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Link, NavLink, Navigate, Outlet, useLocation } from 'react-router'
import { api } from '../api/client'
import { useChanges, useMe, useProposals, useRuns, useStacks, useTemplates } from '../api/queries'
import { Loading, Trouble } from './ui'
import { Refusal } from '../api/client'

export function Sail({ size = 20 }: { size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 24 24" aria-hidden="true" className="text-accent">
      <path fill="currentColor" d="M11 3v12H4.5z" /><path fill="currentColor" opacity=".55" d="M13 6v9h6z" /><path fill="currentColor" d="M3 17h18l-2.5 4h-13z" />
    </svg>
  )
}

/** The frame of every page: where to go, who is here. */
export function Shell() {
  const me = useMe()
  const location = useLocation()
  if (me.isPending) return <Loading />
  if (me.isError) {
    if (me.error instanceof Refusal && me.error.problem.status === 401) return <Navigate to={`/sign-in?to=${encodeURIComponent(location.pathname)}`} replace />
    return <div className="p-6"><Trouble error={me.error} retry={() => void me.refetch()} /></div>
  }
  return (
    <div className="flex min-h-screen max-md:flex-col">
      <nav aria-label="Main" className="sticky top-0 flex h-screen w-[184px] flex-none flex-col border-r border-line px-3 py-5 max-md:static max-md:h-auto max-md:w-full max-md:flex-row max-md:items-center max-md:gap-1 max-md:overflow-x-auto max-md:border-r-0 max-md:border-b max-md:py-2">
        <Link to="/stacks" className="mb-5 flex items-center gap-2.5 px-2.5 text-large font-bold no-underline max-md:mb-0"><Sail /><span className="max-md:sr-only">Under Sail</span></Link>
        <Places />
        <div className="mt-auto px-2.5 text-small text-ink-2 max-md:mt-0 max-md:ml-auto max-md:flex max-md:items-center max-md:gap-3">
          <div className="max-md:hidden">{me.data.full_name}</div>
          <div className="mb-2 max-md:hidden">{me.data.role}</div>
          <Theme />
          <SignOut />
        </div>
      </nav>
      <main className="min-w-0 flex-1 px-6 py-5 max-md:px-3"><Outlet /></main>
    </div>
  )
}

function Places() {
  useChanges()
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
    { to: '/audit', word: 'Audit', count: undefined },
  ]
  return (
    <ul className="space-y-0.5 max-md:flex max-md:space-y-0">
      {places.map((p) => (
        <li key={p.to}>
          <NavLink
            to={p.to}
            className={({ isActive }) => `flex justify-between gap-2 rounded-[6px] px-2.5 py-1.5 no-underline ${isActive ? 'bg-accent-soft font-semibold text-accent' : 'text-ink-2 hover:text-ink'}`}
          >
            {p.word}<span className="text-small max-md:hidden">{p.count ? p.count : ''}</span>
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
  return <button type="button" className="block text-small underline" title={`Change to ${next}`} onClick={() => setTheme(next)}>Colours: {theme}</button>
}

function SignOut() {
  const client = useQueryClient()
  return (
    <button
      type="button"
      className="block text-small underline"
      onClick={() => void api.DELETE('/api/v1/session').finally(() => { client.clear(); window.location.assign('/sign-in') })}
    >
      Sign out
    </button>
  )
}
