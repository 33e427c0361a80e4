import '@fontsource-variable/archivo/wdth.css';
import '@fontsource-variable/atkinson-hyperlegible-mono/wght.css';
import '@fontsource-variable/atkinson-hyperlegible-next/wght.css';
import { QueryClientProvider } from '@tanstack/react-query';
import { lazy, StrictMode, Suspense, useEffect } from 'react';
import { I18nProvider, RouterProvider } from 'react-aria-components';
import { createRoot } from 'react-dom/client';
import { BrowserRouter, Link, Route, Routes, useHref, useLocation, useNavigate } from 'react-router';
import { useWho } from './data/access';
import { queryClient, type Problem } from './data/client';
import { SetUp, SignIn } from './pages/SignIn';
import { Boundary } from './parts/Boundary';
import { Frame } from './parts/Frame';
import { Empty, Loading } from './parts/States';
import { GlobalStyle } from './theme/global';

const Today = lazy(async () => ({ default: (await import('./pages/Today')).Today }));
const Bindings = lazy(async () => ({ default: (await import('./pages/Bindings')).Bindings }));
const Certificates = lazy(async () => ({ default: (await import('./pages/Certificates')).Certificates }));
const CertificatePage = lazy(async () => ({ default: (await import('./pages/Certificate')).CertificatePage }));
const Servers = lazy(async () => ({ default: (await import('./pages/Servers')).Servers }));
const ServerPage = lazy(async () => ({ default: (await import('./pages/Server')).ServerPage }));
const ServerText = lazy(async () => ({ default: (await import('./pages/ServerText')).ServerText }));
const AuthorityPage = lazy(async () => ({ default: (await import('./pages/Authority')).AuthorityPage }));
const Mandates = lazy(async () => ({ default: (await import('./pages/Mandates')).Mandates }));
const MandatePage = lazy(async () => ({ default: (await import('./pages/Mandate')).MandatePage }));
const Foresee = lazy(async () => ({ default: (await import('./pages/Foresee')).Foresee }));
const DrillPage = lazy(async () => ({ default: (await import('./pages/Drill')).DrillPage }));
const Without = lazy(async () => ({ default: (await import('./pages/Without')).Without }));
const Surveys = lazy(async () => ({ default: (await import('./pages/Surveys')).Surveys }));
const SurveyPage = lazy(async () => ({ default: (await import('./pages/Survey')).SurveyPage }));
const InstallationPage = lazy(async () => ({ default: (await import('./pages/Installation')).InstallationPage }));
const Mending = lazy(async () => ({ default: (await import('./pages/Mending')).Mending }));
const HttpsPage = lazy(async () => ({ default: (await import('./pages/Https')).HttpsPage }));
const Findings = lazy(async () => ({ default: (await import('./pages/Findings')).Findings }));
const FindingPage = lazy(async () => ({ default: (await import('./pages/Findings')).FindingPage }));
const Notices = lazy(async () => ({ default: (await import('./pages/Notices')).Notices }));
const EstatePage = lazy(async () => ({ default: (await import('./pages/Estate')).EstatePage }));
const Journal = lazy(async () => ({ default: (await import('./pages/Journal')).Journal }));
const Settings = lazy(async () => ({ default: (await import('./pages/Settings')).Settings }));

const WavePage = lazy(async () => ({ default: (await import('./pages/Wave')).WavePage }));
const titles: [RegExp, string][] = [[/^\/bindings/, 'Bindings'], [/^\/certificates/, 'Certificates'], [/^\/servers/, 'Servers'], [/^\/mandates/, 'Mandates'], [/^\/cas/, 'CA'], [/^\/installations/, 'Installation'], [/^\/mending/, 'Mending'], [/^\/waves/, 'Wave'], [/^\/https/, 'To https'], [/^\/foresee/, 'Foresee'], [/^\/drills/, 'Drill'], [/^\/surveys/, 'Surveys'], [/^\/findings/, 'Findings'], [/^\/notices/, 'Messages'], [/^\/estate/, 'Estate'], [/^\/journal/, 'Journal'], [/^\/settings/, 'Settings'], [/^\/$/, 'Today']];

function Pages() {
  const go = useNavigate();
  const { pathname } = useLocation();
  useEffect(() => {
    document.title = `${titles.find(([at]) => at.test(pathname))?.[1] ?? 'Not found'} · Insegna`;
    scrollTo(0, 0);
  }, [pathname]);
  return (
    <RouterProvider navigate={(to) => void go(to)} useHref={useHref}>
      <Frame>
        <Boundary key={pathname}>
        <Suspense fallback={<Loading />}>
          <Routes>
            <Route path="/" element={<Today />} />
            <Route path="/bindings" element={<Bindings />} />
            <Route path="/certificates" element={<Certificates />} />
            <Route path="/certificates/:sha256" element={<CertificatePage />} />
            <Route path="/servers" element={<Servers />} />
            <Route path="/servers/:name" element={<ServerPage />} />
            <Route path="/servers/:name/text" element={<ServerText />} />
            <Route path="/mandates" element={<Mandates />} />
            <Route path="/mandates/:name" element={<MandatePage />} />
            <Route path="/cas/:name" element={<AuthorityPage />} />
            <Route path="/installations/:number" element={<InstallationPage />} />
            <Route path="/mending" element={<Mending />} />
            <Route path="/waves/:number" element={<WavePage />} />
            <Route path="/https/:number" element={<HttpsPage />} />
            <Route path="/certificates/:sha256/without" element={<Without />} />
            <Route path="/foresee" element={<Foresee />} />
            <Route path="/drills/:number" element={<DrillPage />} />
            <Route path="/surveys" element={<Surveys />} />
            <Route path="/surveys/:id" element={<SurveyPage />} />
            <Route path="/findings" element={<Findings />} />
            <Route path="/findings/:id" element={<FindingPage />} />
            <Route path="/notices" element={<Notices />} />
            <Route path="/estate" element={<EstatePage />} />
            <Route path="/journal" element={<Journal />} />
            <Route path="/settings" element={<Settings />} />
            <Route path="*" element={<Empty page title="No such page"><p><Link to="/">Go to Today</Link>.</p></Empty>} />
          </Routes>
        </Suspense>
        </Boundary>
      </Frame>
    </RouterProvider>
  );
}

/** Lets in who is signed in, and shows everybody else how to sign in. */
function Gate() {
  const who = useWho();
  if (location.pathname === '/set-up') return <SetUp />;
  if (who.isPending) return null;
  if (who.isError && (who.error as Problem | undefined)?.status === 401) return <SignIn />;
  return <Pages />;
}

const root = document.getElementById('root');
if (root) {
  createRoot(root).render(
    <StrictMode>
      <GlobalStyle />
      <I18nProvider locale="en-GB">
        <QueryClientProvider client={queryClient}>
          <BrowserRouter><Gate /></BrowserRouter>
        </QueryClientProvider>
      </I18nProvider>
    </StrictMode>,
  );
}
