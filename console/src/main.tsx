import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { setNonce } from 'get-nonce'
import { StrictMode, Suspense, lazy } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter, Link, Navigate, Route, Routes } from 'react-router'
import './styles.css'
import { Refusal } from './api/client'
import { SignIn } from './pages/sign-in'
import { StacksPage } from './pages/stacks'
import { nonce } from './api/page'
import { Shell } from './parts/shell'
import { Empty, Loading } from './parts/ui'

// The graph and its layout are large: only the pages that draw them load them.
const RunPage = lazy(() => import('./pages/run'))
const ProposalPage = lazy(() => import('./pages/proposal'))
const StackPage = lazy(() => import('./pages/stack'))
const ProposalsPage = lazy(() => import('./pages/proposals'))
const RunsPage = lazy(() => import('./pages/runs'))
const LibraryPage = lazy(() => import('./pages/library'))
const PreparePage = lazy(() => import('./pages/prepare'))
const DraftsPage = lazy(() => import('./pages/drafts'))
const TemplatePage = lazy(() => import('./pages/template'))
const TextPage = lazy(() => import('./pages/text'))
const NewTemplatePage = lazy(() => import('./pages/new-template'))
const AccountsPage = lazy(() => import('./pages/accounts'))
const SecretsPage = lazy(() => import('./pages/secrets'))
const PeoplePage = lazy(() => import('./pages/people'))
const TokensPage = lazy(() => import('./pages/tokens'))
const WelcomePage = lazy(() => import('./pages/welcome'))
const AuditPage = lazy(() => import('./pages/audit'))

setNonce(nonce()) // for the styles that dialogs insert

const theme = localStorage.getItem('theme')
if (theme === 'light' || theme === 'dark') document.documentElement.dataset.theme = theme

const queries = new QueryClient({
  defaultOptions: { queries: { retry: (count, error) => count < 2 && error instanceof Refusal && (error.problem.status === 0 || error.problem.status >= 500), staleTime: 500 } },
})

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <Suspense fallback={<Loading />}>
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
              <Route path="*" element={<Empty heading title="There is nothing at this address">Go back to the <Link to="/stacks">stacks</Link>.</Empty>} />
            </Route>
          </Routes>
        </Suspense>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
)
