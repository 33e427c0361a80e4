import { useState } from 'react';
import { useParams } from 'react-router';
import styled from 'styled-components';
import { useMay } from '../data/access';
import type { Problem } from '../data/client';
import { day, download, moment, plural } from '../data/format';
import { endRolling, makeAuthority, revokeIssued, rollAuthority, signRequest, useAuthority, useIssued, useRolling } from '../data/ways';
import { Bar, Button, Plain, Scroll } from '../parts/Controls';
import { Form, Input } from '../parts/Form';
import { Failure, Loading } from '../parts/States';
import { color, space } from '../theme/tokens';

const Part = styled.section`
  margin-top: ${space(7)}; h2 { font-size: 20px; margin-bottom: ${space(3)}; } td { overflow-wrap: anywhere; } .gone { color: ${color.oxide}; font-weight: 600; } .soft { color: ${color.soft}; }
`;

/** A CA of one's own: what it is, what it has issued, and how machines come to trust it. */
export function AuthorityPage() {
  const { name = '' } = useParams();
  const q = useAuthority(name);
  if (q.isPending) return <Loading />;
  if (q.isError) return (q.error as Problem).status === 404 ? <Make name={name} /> : <Failure error={q.error} retry={() => void q.refetch()} />;
  const list = q.data.certificates;
  const issuing = list.find((c) => c.role === 'issuing' && !c.retired_at);
  const roots = list.filter((c) => c.role === 'root').map((c) => c.pem).join('');
  return (
    <>
      <h1>{name}: {issuing ? `${issuing.subject} issues until ${day(issuing.not_after)}` : 'nothing of it issues'}</h1>
      <Bar>
        <Button onPress={() => download(`${name}-root.pem`, 'application/x-pem-file', roots)}>Save the root as PEM</Button>
        <a href={`/pki/${encodeURIComponent(name)}/`} target="_blank" rel="noreferrer">How machines come to trust it</a>
      </Bar>
      <Part aria-label="Its certificates">
        <h2>Its certificates</h2>
        <Scroll tabIndex={0} role="region" aria-label="List of its certificates">
          <Plain>
            <thead><tr><th>Role</th><th>Certificate</th><th>Ends</th><th>Key</th><th>Made</th></tr></thead>
            <tbody>
              {list.map((c) => (
                <tr key={c.number}><td>{c.role}{c.retired_at && ', former'}</td><td>{c.subject}<br /><code>{c.sha256.slice(0, 16)}</code></td><td>{day(c.not_after)}</td>
                  <td>{c.key}<br /><span className="soft">{c.key_kept ? 'in the safe' : 'kept elsewhere'}</span></td><td>{moment(c.made_at)}<br /><span className="soft">by {c.made_by}</span></td></tr>
              ))}
            </tbody>
          </Plain>
        </Scroll>
      </Part>
      <RollOver name={name} kept={list.some((c) => c.role === 'root' && !c.retired_at && c.key_kept)} />
      <Issued name={name} />
      <Sign name={name} />
    </>
  );
}

/** From one root to the next without breaking anybody: how that stands, and the step that comes. */
function RollOver({ name, kept }: { name: string; kept: boolean }) {
  const q = useRolling(name);
  const may = useMay('admin');
  const [busy, setBusy] = useState(false);
  const [says, setSays] = useState('');
  if (q.isPending) return <Loading rows={2} />;
  if (q.isError) return <Failure what="How it rolls over" error={q.error} retry={() => void q.refetch()} />;
  const r = q.data;
  const act = (call: () => Promise<unknown>) => {
    setBusy(true);
    setSays('');
    void call().catch((e: unknown) => { const p = e as Partial<Problem>; setSays([p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')); }).finally(() => setBusy(false));
  };
  const waits = r.waiting.length > 0;
  return (
    <Part aria-label="Roll over">
      <h2>From one root to the next</h2>
      {r.vouched ? (
        <>
          <p>{r.root} is in force{r.root_ends && `, until ${day(r.root_ends)}`}; {r.former} vouches for it, and servers send that along. {plural(r.issued, 'good certificate')} since, {r.issued_before} from before{r.last_ends && `, the last of which ends on ${day(r.last_ends)}`}.</p>
          <p>{waits ? <>These audiences trust the former root alone, and have to be given the new one: <strong>{r.waiting.join(', ')}</strong>.</> : 'Every audience of the estate trusts the new root.'}{r.moved.length > 0 && ` Moved: ${r.moved.join(', ')}.`}</p>
          {may && <Bar><Button $main={!waits} isDisabled={busy} onPress={() => { if (confirm(waits ? `${r.waiting.join(', ')} would no longer be served. End it all the same?` : `End that ${r.former ?? 'the former root'} vouches for ${r.root}?`)) act(() => endRolling(name, waits)); }}>End the way by the former root</Button></Bar>}
        </>
      ) : (
        <>
          <p>{r.root} is in force{r.root_ends && `, until ${day(r.root_ends)}`}. Rolling over makes a new root, for which this one vouches, and a new CA below it that issues: machines that know either root trust what is issued, until all have the new one.</p>
          {may && !kept && <p>Its key is kept elsewhere, and is asked for: <code>insegna ca roll {name} --root-key FILE</code>.</p>}
          {may && kept && <Bar><Button isDisabled={busy} onPress={() => { if (confirm(`Make a new root for ${name}, and issue from below it from now on?`)) act(() => rollAuthority(name)); }}>Make the next root</Button></Bar>}
        </>
      )}
      {says && <p className="gone" role="alert">{says}</p>}
    </Part>
  );
}

/** What it has issued, the newest first. */
function Issued({ name }: { name: string }) {
  const q = useIssued(name);
  const may = useMay('operator');
  const [says, setSays] = useState('');
  if (q.isPending) return <Loading rows={3} />;
  if (q.isError) return <Failure error={q.error} retry={() => void q.refetch()} />;
  const items = q.data.pages.flatMap((p) => p.items);
  const revoke = (serial: string, names: string) => {
    if (!confirm(`Revoke the certificate of ${names}? It cannot be made good again.`)) return;
    setSays('');
    void revokeIssued(name, serial, 'superseded').then(() => q.refetch()).catch((e: unknown) => setSays((e as Partial<Problem>).detail ?? 'the service does not answer'));
  };
  return (
    <Part aria-label="What it has issued">
      <h2>What it has issued</h2>
      {says && <p className="gone" role="alert">{says}</p>}
      {items.length === 0 ? <p>Nothing yet.</p> : (
        <Scroll tabIndex={0} role="region" aria-label="List of what it has issued">
          <Plain>
            <thead><tr><th>Serial number</th><th>Names</th><th>Profile</th><th>Issued</th><th>Ends</th><th>Revoked</th></tr></thead>
            <tbody>
              {items.map((v) => (
                <tr key={v.serial}><td><code>{v.serial}</code></td><td>{v.names.join(', ')}</td><td>{v.profile}</td><td>{moment(v.at)}<br /><span className="soft">{v.order ? `order ${v.order}` : `for ${v.by}`}</span></td><td>{day(v.not_after)}</td>
                  <td>{v.revoked_at ? <span className="gone">{day(v.revoked_at)}: {v.reason}</span> : may && <Button aria-label={`Revoke ${v.names[0] ?? v.serial}`} onPress={() => revoke(v.serial, v.names.join(', '))}>Revoke</Button>}</td></tr>
              ))}
            </tbody>
          </Plain>
        </Scroll>
      )}
      {q.hasNextPage && <Bar><Button isDisabled={q.isFetchingNextPage} onPress={() => void q.fetchNextPage()}>Show more</Button></Bar>}
    </Part>
  );
}

/** Issues from somebody's request. */
function Sign({ name }: { name: string }) {
  const may = useMay('operator');
  const issued = useIssued(name);
  if (!may) return null;
  return (
    <Part aria-label="From a request">
      <h2>From somebody&apos;s request</h2>
      <Form label="Issue from a request" act="Issue" onSend={async (field) => { const v = await signRequest(name, field('request')); download('certificate.pem', 'application/x-pem-file', v.pem); await issued.refetch(); }}>
        <Input label="Certificate request (PEM)" name="request" lines={5} hint="The key stays whoever's made it. The certificate with its chain is saved." />
      </Form>
    </Part>
  );
}

/** Makes it, where the estate declares it and nobody has. */
function Make({ name }: { name: string }) {
  const may = useMay('admin');
  return (
    <>
      <h1>{name} has not been made yet</h1>
      <p>It is a root, and a CA below it that issues. Both keys lie in the safe. To keep the root&apos;s key elsewhere, or to take a CA in that you have: <code>insegna ca make --help</code>, <code>insegna ca take --help</code>.</p>
      {may && (
        <Part aria-label="Make it">
          <Form label="Make the CA" act="Make it" onSend={(field) => makeAuthority(name, field('organization'), field('permitted').split(/[\s,]+/).filter(Boolean))}>
            <Input label="Organization" name="organization" optional hint="In the names of its certificates." />
            <Input label="May only issue for" name="permitted" optional hint="Domains, each with all below it, and ranges of addresses. Left empty: for anything." />
          </Form>
        </Part>
      )}
    </>
  );
}
