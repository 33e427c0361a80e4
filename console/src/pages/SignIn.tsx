import { useEffect, type ReactNode } from 'react';
import styled from 'styled-components';
import { setUp, signIn } from '../data/access';
import { Form, Input } from '../parts/Form';
import { color, font, space } from '../theme/tokens';

const Street = styled.main`
  min-height: 100vh; display: grid; place-items: center; align-content: center; padding: ${space(4)};
  > section { width: min(520px, 100%); border: 1px solid ${color.line}; background: ${color.raised}; }
  > section > div { padding: ${space(6)}; display: grid; gap: ${space(4)}; }
  h1 { font-size: 22px; }
`;

const Sign = styled.header`
  background: ${color.cobalt}; color: ${color.cream}; padding: 3px;
  p { border: 2px solid ${color.cream}; padding: ${space(4)} ${space(6)}; font: 800 30px/1 ${font.sign}; font-stretch: 125%; letter-spacing: 0.02em; }
`;

/** Shown in place of every page while nobody is signed in. */
export function SignInPage({ children, title }: { title: string; children: ReactNode }) {
  useEffect(() => { document.title = `${title} · Insegna`; }, [title]);
  return (
    <Street>
      <section aria-label={title}>
        <Sign><p>Insegna</p></Sign>
        <div>{children}</div>
      </section>
    </Street>
  );
}

export function SignIn() {
  return (
    <SignInPage title="Sign in">
      <h1>Sign in</h1>
      <Form label="Sign in" act="Sign in" onSend={(f) => signIn(f('name').trim(), f('passphrase'))}>
        <Input label="Name" name="name" autoComplete="username" />
        <Input label="Passphrase" name="passphrase" type="password" autoComplete="current-password" />
      </Form>
      <p>Forgotten, or never set up? An admin can give you a one-time link: <code>insegna person invite NAME</code>. On a new service the first link is printed when it starts.</p>
    </SignInPage>
  );
}

/** Opened with a one-time link, whose code stands after #. */
export function SetUp() {
  const code = location.hash.slice(1);
  return (
    <SignInPage title="Set up">
      <h1>Choose your passphrase</h1>
      {code ? (
        <Form label="Set up" act="Set up and sign in" onSend={(f) => setUp(code, f('name').trim(), f('passphrase'))}>
          <Input label="Name" name="name" autoComplete="username" optional hint="Only for the first admin, who chooses it here: small letters, digits, dot, dash. Others were given theirs." />
          <Input label="Passphrase" name="passphrase" type="password" autoComplete="new-password" hint="At least 12 characters; four words that do not belong together make a good one." />
        </Form>
      ) : (
        <p>This page is opened with a one-time link; the part of it after # is missing. Copy the whole link, or ask an admin for a new one.</p>
      )}
    </SignInPage>
  );
}
