import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { useMay } from '../data/access';
import { api, type Problem } from '../data/client';
import { day, moment, plural } from '../data/format';
import { addMandate, agree, changed, draftMandate, standing, useMandates, type CA, type Mandate } from '../data/mandates';
import { useWaiting, waitsFor } from '../data/ways';
import { Accounts } from '../parts/Accounts';
import { Bar, Button, Plain, Scroll, Search } from '../parts/Controls';
import { Form, Input } from '../parts/Form';
import { Empty, Failure, Loading } from '../parts/States';
import { ReplyForm, TakeForm } from '../parts/Waiting';
import { color, font, narrow, radius, space } from '../theme/tokens';
import { HttpsRuns } from './Https';

const List = styled.ul`
  list-style: none; margin: ${space(4)} 0; padding: 0; background: ${color.raised}; border: 1px solid ${color.line};
  > li { display: grid; grid-template-columns: 180px minmax(0, 1fr) minmax(0, 1.4fr); gap: ${space(2)} ${space(5)}; padding: ${space(4)}; }
  > li + li { border-top: 1px solid ${color.line}; }
  h2 { font-size: 19px; margin: 0; overflow-wrap: anywhere; } code { font: 15px ${font.mono}; overflow-wrap: anywhere; display: block; }
  small { color: ${color.soft}; font-size: 14px; display: block; }
  ${narrow} { > li { grid-template-columns: minmax(0, 1fr); } }
`;

export const Standing = styled.p<{ $kind: string }>`
  overflow-wrap: anywhere; border-left: 6px solid ${(p) => (p.$kind === 'failed' ? color.oxide : p.$kind === 'fine' ? color.agreed : p.$kind === 'running' ? color.brassFill : color.line)}; padding-left: ${space(3)};
  ${(p) => p.$kind === 'failed' && `color: ${color.oxide}; font-weight: 600;`}
`;

const Part = styled.section`
  margin-top: ${space(8)};
  h2 { font-size: 20px; margin-bottom: ${space(3)}; }
  .says { color: ${color.oxide}; font-weight: 600; } h3 { font-size: 17px; margin: ${space(6)} 0 ${space(2)}; } td { overflow-wrap: anywhere; }
  textarea { font: 15px/1.5 ${font.mono}; width: min(820px, 100%); border-radius: ${radius}; }
  summary { cursor: pointer; font-weight: 600; margin-bottom: ${space(3)}; }
  ul { margin: ${space(2)} 0; padding-left: ${space(5)}; }
`;

export function Next({ m }: { m: Mandate }) {
  if (!m.next_why) return null;
  return <small>{m.next_at ? <>next {moment(m.next_at)}: {m.next_why}</> : m.next_why}</small>;
}

export function Mandates() {
  const [params, setParams] = useSearchParams();
  const q = params.get('q') ?? '';
  const set = (v: string) => setParams((p) => { if (v) p.set('q', v); else p.delete('q'); return p; }, { replace: true });
  const pages = useMandates(q);
  if (pages.isPending) return <Loading />;
  if (pages.isError) return <Failure error={pages.error} retry={() => void pages.refetch()} />;
  const items = pages.data.pages.flatMap((p) => p.items);
  const failed = items.filter((m) => standing(m)[0] === 'failed').length;
  const force = items.filter((m) => standing(m)[0] === 'fine').length;
  return (
    <>
      <h1>{plural(items.length, 'mandate')}{pages.hasNextPage && ' and more'}: {force} seen by visitors, {failed} failed, {items.length - force - failed} not there yet</h1>
      <Bar><Search label="Mandate, host or CA" value={q} onChange={set} /></Bar>
      {items.length === 0 ? (
        <Empty title={q ? 'No mandate fits' : 'No mandate yet'}><p>{q ? 'Take the search away to see more.' : 'A mandate says which names a certificate holds, from which CA, proved how. Declare one in the estate file under mandates, or make one below.'}</p></Empty>
      ) : (
        <List aria-label="Mandates">
          {items.map((m) => {
            const [kind, text] = standing(m);
            return (
              <li key={m.name}>
                <div><h2><Link to={`/mandates/${m.name}`}>{m.name}</Link></h2><small>{[m.ca, ...m.otherwise].join(', else ')}{m.proof !== 'none' && `, by ${m.proof}`}</small><small>{m.key}</small></div>
                <div>{m.names.slice(0, 6).map((n) => <code key={n}>{n}</code>)}{m.names.length > 6 && <small>and {m.names.length - 6} more</small>}</div>
                <div><Standing $kind={kind}>{text}</Standing><Next m={m} />{m.rehearsed && <small>last rehearsal {moment(m.rehearsed.begun_at)}: {m.rehearsed.failure?.words ?? m.rehearsed.state}</small>}</div>
              </li>
            );
          })}
        </List>
      )}
      {pages.hasNextPage && <Bar><Button isDisabled={pages.isFetchingNextPage} onPress={() => void pages.fetchNextPage()}>Show 100 more</Button></Bar>}
      <WaitingOrders />
      <HttpsRuns />
      <Authorities />
      <Take />
      <Make />
    </>
  );
}

/** Orders whose request a person carries. */
function WaitingOrders() {
  const q = useWaiting();
  const may = useMay('operator');
  if (q.isError) return <Failure what="What waits for a person" error={q.error} retry={() => void q.refetch()} />;
  if (!q.data || q.data.items.length === 0) return null;
  return (
    <Part aria-label="Waits for a person">
      <h2>{plural(q.data.items.length, 'request')} {q.data.items.length === 1 ? 'waits' : 'wait'} for a person</h2>
      <ul>{q.data.items.map((o) => <li key={o.number}><Link to={`/mandates/${o.mandate}?order=${o.number}`}>{o.mandate}, order {o.number}</Link>: {waitsFor(o, day)}</li>)}</ul>
      {may && <details><summary>A reply is there</summary><ReplyForm /></details>}
    </Part>
  );
}

/** Takes in a certificate that is there already. */
function Take() {
  if (!useMay('operator')) return null;
  return (
    <Part aria-label="Take in">
      <details><summary>Take in a certificate with its key</summary><TakeForm /></details>
    </Part>
  );
}

function Authorities() {
  const q = api.useQuery('get', '/cas');
  if (q.isPending) return <Loading rows={2} />;
  if (q.isError) return <Failure error={q.error} retry={() => void q.refetch()} />;
  return (
    <Part aria-label="CAs">
      <h2>Certificate authorities</h2>
      {q.data.items.length === 0 ? <p>The estate file declares none, under <code>cas</code>.</p> : (
        <Scroll tabIndex={0} role="region" aria-label="List of CAs">
          <Plain>
            <thead><tr><th>CA</th><th>Directory</th><th>Account</th><th>Budget</th></tr></thead>
            <tbody>
              {q.data.items.map((ca) => (
                <tr key={ca.name}>
                  <td>{ca.name}</td><td>{ca.by === 'acme' ? <code>{ca.directory}</code> : ca.by === 'private' ? 'your own' : 'asked by hand'}</td><td><Agreement ca={ca} /></td>
                  <td>{ca.budget.certificates > 0 ? `${ca.budget.used} of ${ca.budget.certificates} used in ${ca.budget.days} days` : 'not declared'}</td>
                </tr>
              ))}
            </tbody>
          </Plain>
        </Scroll>
      )}
      <Accounts />
    </Part>
  );
}

/** Who agreed to a CA's terms, or the means to do so in one's own name. */
function Agreement({ ca }: { ca: CA }) {
  const may = useMay('admin');
  const [says, setSays] = useState('');
  if (ca.by === 'private') return <Link to={`/cas/${ca.name}`}>{ca.name}: its certificates, and what it has issued</Link>;
  if (ca.by !== 'acme') return <>none is needed</>;
  if (ca.trouble) return <span className="says">{ca.trouble}</span>;
  if (ca.account?.rests_until) return <span className="says">It wants no requests before {moment(ca.account.rests_until)}. It said: {ca.account.rests_why}</span>;
  const renewed = ca.account !== undefined && ca.account.terms !== ca.terms;
  if (ca.account && !renewed) return <>{ca.account.agreed_by} agreed to <a href={ca.account.terms} rel="noreferrer">its terms</a>, {moment(ca.account.agreed_at)}</>;
  const send = () => agree(ca).then(changed).catch((e: unknown) => setSays((e as Problem).detail ?? 'it did not work'));
  return (
    <>
      {renewed ? 'It has changed ' : 'Nobody has agreed to '}<a href={ca.terms} rel="noreferrer">its terms</a>{ca.test_terms && <> and <a href={ca.test_terms} rel="noreferrer">those of its test directory</a></>}{renewed ? ' since they were agreed to. ' : ' yet. '}{may && <Button onPress={() => void send()}>I have read them and agree</Button>}
      {says && <p className="says" role="alert">{says}</p>}
    </>
  );
}

/** Makes a mandate from a draft of names that a person corrects. */
function Make() {
  const may = useMay('admin');
  const [draft, setDraft] = useState<{ advice: string[]; text: string }>();
  const [key, setKey] = useState(0);
  if (!may) return null;
  const show = (d: { advice: string[]; text: string }) => { setDraft(d); setKey(key + 1); };
  return (
    <Part aria-label="Make a mandate">
      <h2>Make a mandate</h2>
      <p>Names come from a site, or, with nothing given, from the bindings no certificate covers.</p>
      <details>
        <summary>Work out the names</summary>
        <Form label="Work out the names" act="Draft it" onSend={async (f) => show(await draftMandate(f('server').trim(), f('site').trim()))}>
          <Input label="Server" name="server" optional hint="Such as pier-1" />
          <Input label="Site" name="site" optional hint="One of its names, or file:line" />
        </Form>
      </details>
      {draft && draft.advice.length > 0 && <ul>{draft.advice.map((a) => <li key={a}>{a}</li>)}</ul>}
      {draft && (
        <Form key={key} label="Make the mandate" act="Make it" onSend={async (f) => { await addMandate(f('text')); setDraft(undefined); await changed(); }}>
          <Input label="The mandate, as it would stand in an estate file" name="text" lines={9} value={draft.text} />
        </Form>
      )}
    </Part>
  );
}
