import { useEffect, useRef, useState, type FormEvent, type ReactNode } from 'react';
import { NavLink, useLocation, useNavigate } from 'react-router';
import styled from 'styled-components';
import { api } from '../data/client';
import { ago, plural } from '../data/format';
import { useRunningSurvey } from '../data/surveys';
import { color, font, narrow, radius, space } from '../theme/tokens';

const Fascia = styled.header`
  background: ${color.cobalt}; color: ${color.cream}; padding: 3px;
  > div { border: 2px solid ${color.cream}; padding: ${space(2)} ${space(6)}; display: flex; align-items: center; gap: ${space(3)} ${space(6)}; flex-wrap: wrap; min-height: 58px; }
  strong.name { font: 800 26px/1 ${font.sign}; font-stretch: 125%; letter-spacing: 0.02em; }
  form { margin-left: auto; position: relative; }
  input { width: 360px; max-width: 80vw; font: 15px ${font.text}; padding: ${space(2)} ${space(10)} ${space(2)} ${space(3)}; color: ${color.cream}; background: rgb(255 255 255 / 14%); border: 1px solid ${color.cream}; border-radius: ${radius}; }
  input::placeholder { color: ${color.cream}; opacity: 1; }
  kbd { position: absolute; right: 8px; top: 7px; border: 1px solid ${color.cream}; border-radius: ${radius}; padding: 0 7px; font: 14px ${font.mono}; }
  button { font: 14px ${font.text}; color: inherit; background: none; border: 1px solid ${color.cream}; border-radius: ${radius}; padding: ${space(1)} ${space(2)}; cursor: pointer; }
  :focus-visible { outline-color: ${color.cream}; }
  ${narrow} { form { margin: 0; } > div { padding: ${space(2)} ${space(3)}; } }
`;

const Nav = styled.nav`
  display: flex; flex-wrap: wrap; padding: 0 ${space(6)}; background: ${color.raised}; border-bottom: 2px solid ${color.ink};
  a { padding: ${space(2)} ${space(4)}; font: 600 15px/22px ${font.sign}; color: ${color.soft}; text-decoration: none; border-bottom: 3px solid transparent; margin-bottom: -2px; }
  a:hover { color: ${color.ink}; }
  a.active { color: ${color.link}; border-bottom-color: ${color.link}; }
  ${narrow} { padding: 0; a { padding: ${space(2)} ${space(3)}; } }
`;

const Main = styled.main`
  max-width: 1280px; margin: 0 auto; padding: ${space(6)} ${space(7)} ${space(12)};
  ${narrow} { padding: ${space(4)} ${space(3)}; }
`;

const Skip = styled.a`
  position: absolute; left: -999px; &:focus { left: 8px; top: 8px; background: ${color.raised}; padding: ${space(2)}; z-index: 2; }
`;

/** The street: fascia above, one row of pages, then paper. */
export function Frame({ children }: { children: ReactNode }) {
  const { pathname } = useLocation();
  return (
    <>
      <Skip href="#main">Skip to the page</Skip>
      <Fascia>
        <div>
          <strong className="name">Insegna</strong>
          <Standing />
        </div>
      </Fascia>
      <Nav aria-label="Pages">
        <NavLink to="/" end>Today</NavLink>
        <NavLink to="/bindings">Bindings</NavLink>
        <NavLink to="/certificates">Certificates</NavLink>
        <NavLink to="/servers">Servers</NavLink>
        <NavLink to="/mandates" className={({ isActive }) => (isActive || /^\/(installations|waves|cas)\//.test(pathname) ? 'active' : '')}>Mandates</NavLink>
        <NavLink to="/foresee" className={({ isActive }) => (isActive || pathname.startsWith('/drills') ? 'active' : '')}>Foresee</NavLink>
        <NavLink to="/surveys">Surveys</NavLink>
        <NavLink to="/journal">Journal</NavLink>
        <NavLink to="/settings">Settings</NavLink>
      </Nav>
      <Main id="main" tabIndex={-1}>{children}</Main>
    </>
  );
}

function Standing() {
  const today = api.useQuery('get', '/today');
  const running = useRunningSurvey();
  const last = today.data?.survey;
  return (
    <>
      <span>{today.data?.estate}</span>
      <Find />
      <span>
        {running ? (running.servers_read < running.servers ? `reading, ${running.servers_read} of ${plural(running.servers, 'server')}` : `surveying, ${running.done} of ${running.targets}`) : last ? <>surveyed {ago(last.created_at)} · from <strong>{last.vantage}</strong></> : 'not surveyed yet'}
      </span>
      <Scheme />
    </>
  );
}

/** Finds bindings by host, server or address; "/" goes there. */
function Find() {
  const input = useRef<HTMLInputElement>(null);
  const go = useNavigate();
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const at = e.target as HTMLElement;
      if (e.key === '/' && !at.closest('input, textarea, [role=textbox]')) {
        e.preventDefault();
        input.current?.focus();
      }
    };
    addEventListener('keydown', onKey);
    return () => removeEventListener('keydown', onKey);
  }, []);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    void go(`/bindings?q=${encodeURIComponent(input.current?.value ?? '')}`);
  };
  return (
    <form role="search" onSubmit={submit}>
      <input ref={input} aria-label="Find a host, server or address" placeholder="Find a host, server or address" />
      <kbd aria-hidden="true">/</kbd>
    </form>
  );
}

const stored = () => (localStorage.getItem('scheme') === 'dark' ? 'dark' : localStorage.getItem('scheme') === 'light' ? 'light' : '');

/** Turns light to dark and back; untouched, it follows the system. */
function Scheme() {
  const [scheme, setScheme] = useState(stored);
  useEffect(() => {
    if (scheme) document.documentElement.dataset.scheme = scheme;
  }, [scheme]);
  const isDark = scheme ? scheme === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches;
  const turn = () => {
    const next = isDark ? 'light' : 'dark';
    localStorage.setItem('scheme', next);
    setScheme(next);
  };
  return <button type="button" onClick={turn}>{isDark ? 'Light' : 'Dark'}</button>;
}
