import { useState } from 'react';
import { useMay } from '../data/access';
import type { Problem } from '../data/client';
import { moment } from '../data/format';
import { endAccount, newAccountKey, tellContact, useAccounts, type Account } from '../data/ways';
import { Bar, Button, Plain, Scroll } from './Controls';
import { Failure } from './States';

/** The accounts at CAs, with what can be done with them. */
export function Accounts() {
  const q = useAccounts();
  const may = useMay('admin');
  const [busy, setBusy] = useState(false);
  const [says, setSays] = useState('');
  if (q.isError) return <Failure what="The accounts" error={q.error} retry={() => void q.refetch()} />;
  if (!q.data || q.data.items.length === 0) return null;
  const act = (call: () => Promise<unknown>) => {
    setBusy(true);
    setSays('');
    void call().catch((e: unknown) => { const p = e as Partial<Problem>; setSays([p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')); }).finally(() => setBusy(false));
  };
  return (
    <section aria-label="Accounts">
      <h3>Accounts</h3>
      {says && <p className="says" role="alert">{says}</p>}
      <Scroll tabIndex={0} role="region" aria-label="List of accounts">
        <Plain>
          <thead><tr><th>CA</th><th>What the CA calls it</th><th>Contact</th><th>Agreed to its terms</th><th>State</th></tr></thead>
          <tbody>
            {q.data.items.map((a) => (
              <tr key={a.url}>
                <td>{a.ca}{a.test && ', test directory'}</td><td><code>{a.url}</code></td>
                <td>{shown(a.contact)}{differs(a) && <><br /><small>the estate says {shown(a.contact_declared)}</small>{may && <Bar><Button isDisabled={busy} onPress={() => act(() => tellContact(a.ca))}>Tell the CA</Button></Bar>}</>}</td>
                <td>{a.agreed_by}, {moment(a.agreed_at)}</td>
                <td>{state(a)}{may && !a.ended_at && a.declared && !a.test && (
                  <Bar>
                    <Button isDisabled={busy} aria-label={`New key for the account at ${a.ca}`} onPress={() => { if (confirm(`Give the accounts at ${a.ca} new keys? The former ones are destroyed.`)) act(() => newAccountKey(a.ca)); }}>New key</Button>
                    <Button isDisabled={busy} aria-label={`End it: the account at ${a.ca}`} onPress={() => { if (confirm(`Deactivate the accounts at ${a.ca} for good?`)) act(() => endAccount(a.ca, false)); }}>End it</Button>
                  </Bar>
                )}</td>
              </tr>
            ))}
          </tbody>
        </Plain>
      </Scroll>
    </section>
  );
}

const differs = (a: Account) => !a.ended_at && a.declared && a.contact !== a.contact_declared;

function state(a: Account): string {
  if (a.ended_at) return `ended ${moment(a.ended_at)}`;
  if (!a.declared) return 'the estate declares it no longer';
  if (a.rests_until) return `rests until ${moment(a.rests_until)}, as the CA wants`;
  return a.key_open ? 'which of two keys counts is asked before the next order' : 'in use';
}

const shown = (contact: string) => contact.replaceAll('mailto:', '') || 'none';
