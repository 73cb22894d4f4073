import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { setNonce } from 'get-nonce'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter, Link, Navigate, Route, Routes } from 'react-router'
import './styles.css'
import { Refusal } from './api/client'
import { passing } from './api/passing'
import { SignIn } from './pages/sign-in'
import { StacksPage } from './pages/stacks'
import { nonce } from './api/page'
import { Shell } from './parts/shell'
import { page } from './parts/script'
import { Empty } from './parts/ui'

// The graph and its layout are large: only the pages that draw them load them.
const RunPage = page(() => import('./pages/run'))
const ProposalPage = page(() => import('./pages/proposal'))
const StackPage = page(() => import('./pages/stack'))
const ProposalsPage = page(() => import('./pages/proposals'))
const RunsPage = page(() => import('./pages/runs'))
const LibraryPage = page(() => import('./pages/library'))
const PreparePage = page(() => import('./pages/prepare'))
const DraftsPage = page(() => import('./pages/drafts'))
const TemplatePage = page(() => import('./pages/template'))
const TextPage = page(() => import('./pages/text'))
const NewTemplatePage = page(() => import('./pages/new-template'))
const AccountsPage = page(() => import('./pages/accounts'))
const SecretsPage = page(() => import('./pages/secrets'))
const PeoplePage = page(() => import('./pages/people'))
const TokensPage = page(() => import('./pages/tokens'))
const WelcomePage = page(() => import('./pages/welcome'))
const AuditPage = page(() => import('./pages/audit'))

setNonce(nonce()) // for the styles that dialogs insert

const theme = localStorage.getItem('theme')
if (theme === 'light' || theme === 'dark') document.documentElement.dataset.theme = theme

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (count, error) => count < 2 && error instanceof Refusal && passing(error.problem.status),
      staleTime: 500,
    },
  },
})

// A page that the browser kept whole would show who was here before.
window.addEventListener('pageshow', (e) => {
  if (e.persisted) window.location.reload()
})

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <Routes>
          <Route path="/sign-in" element={<SignIn />} />
          <Route path="/welcome" element={<WelcomePage />} />
          <Route element={<Shell />}>
            <Route index element={<Navigate to="/stacks" replace />} />
            <Route path="/stacks" element={<StacksPage />} />
            <Route path="/stacks/:name" element={<StackPage />} />
            <Route path="/proposals" element={<ProposalsPage />} />
            <Route path="/proposals/:id" element={<ProposalPage />} />
            <Route path="/runs" element={<RunsPage />} />
            <Route path="/runs/:id" element={<RunPage />} />
            <Route path="/prepare" element={<DraftsPage />} />
            <Route path="/prepare/:template" element={<PreparePage />} />
            <Route path="/library" element={<LibraryPage />} />
            <Route path="/library/new" element={<NewTemplatePage />} />
            <Route path="/library/:name" element={<TemplatePage />} />
            <Route path="/library/:name/text" element={<TextPage />} />
            <Route path="/accounts" element={<AccountsPage />} />
            <Route path="/accounts/:name" element={<AccountsPage />} />
            <Route path="/secrets" element={<SecretsPage />} />
            <Route path="/people" element={<PeoplePage />} />
            <Route path="/tokens" element={<TokensPage />} />
            <Route path="/audit" element={<AuditPage />} />
            <Route
              path="*"
              element={
                <Empty heading title="There is nothing at this address">
                  Go back to the <Link to="/stacks">stacks</Link>.
                </Empty>
              }
            />
          </Route>
        </Routes>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
)
