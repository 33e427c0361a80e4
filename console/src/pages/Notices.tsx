import { useState } from 'react';
import { Link } from 'react-router';
import styled from 'styled-components';
import { useMay } from '../data/access';
import { api, type Problem, type Schemas } from '../data/client';
import { ago, ahead, moment, plural } from '../data/format';
import { endSilence, previewNotice, silence, testNotice, tryNotice } from '../data/notices';
import { Bar, Button, Choice, Pick, Plain, Scroll } from '../parts/Controls';
import { Form, Input } from '../parts/Form';
import { Empty, Failure, Loading } from '../parts/States';
import { color, font, radius, space } from '../theme/tokens';

const Part = styled.section`
  margin-top: ${space(7)}; h2 { font-size: 20px; margin-bottom: ${space(3)}; } details { margin-top: ${space(4)}; } summary { cursor: pointer; font-weight: 600; } details > form { margin-top: ${space(3)}; }
  .bad { color: ${color.oxide}; font-weight: 600; } small { color: ${color.soft}; display: block; } td button { margin: 0 ${space(2)} ${space(1)} 0; }
`;

const Letter = styled.div`
  border: 1px solid ${color.line}; border-radius: ${radius}; background: ${color.raised}; padding: ${space(4)}; margin: ${space(4)} 0;
  pre { font: 14px/1.45 ${font.mono}; white-space: pre-wrap; overflow-wrap: anywhere; margin: ${space(3)} 0 0; max-height: 460px; overflow: auto; }
`;

type Notice = Schemas['Notice'];

/** Who is told of what, and whether it arrived. */
export function Notices() {
  const owners = api.useQuery('get', '/owners', {}, { retry: false });
  if (owners.isPending) return <Loading />;
  if (owners.isError) return <Failure error={owners.error} retry={() => void owners.refetch()} />;
  const told = owners.data.gather !== undefined;
  return (
    <>
      <h1>{told ? `${plural(owners.data.items.length, 'owner')} told of what is wrong` : 'Nobody is told of what is wrong'}</h1>
      {told ? <p>Each gets at most one message in {owners.data.gather}{owners.data.digest ? `, and how things stand every day at ${owners.data.digest}` : ''}. The estate file says who, under <code>owners</code> and <code>notices</code>.</p>
        : <Empty title="No notices are declared"><p>Say in the estate file who is told, and how, under <code>owners</code> and <code>notices</code>; then <code>insegna estate apply FILE</code>.</p></Empty>}
      {owners.data.items.length > 0 && <Owners items={owners.data.items} told={told} />}
      {told && <Silences owners={owners.data.items.map((o) => o.name)} />}
      <Messages />
    </>
  );
}

function Owners({ items, told }: { items: Schemas['Owner'][]; told: boolean }) {
  const may = useMay('operator');
  const [says, setSays] = useState('');
  const [shown, setShown] = useState<Notice>();
  const act = (call: Promise<string>) => void call.then(setSays).catch((e: unknown) => setSays((e as Problem).detail ?? 'it did not work'));
  const show = (owner: string, kind: 'events' | 'digest') => void previewNotice(owner, kind).then((v) => { setSays(''); setShown(v.items[0]); }).catch((e: unknown) => setSays((e as Problem).detail ?? 'it did not work'));
  return (
    <Part aria-label="Owners">
      <h2>Owners</h2>
      {says && <p role="status">{says}</p>}
      <Scroll tabIndex={0} role="region" aria-label="List of owners">
        <Plain>
          <thead><tr><th>Owner</th><th>Told at</th><th>Theirs</th><th>Open</th><th>Last told</th>{told && <td />}</tr></thead>
          <tbody>
            {items.map((o) => (
              <tr key={o.name}>
                <td>{o.name}{o.default && <small>and of what names none</small>}</td>
                <td>{[...o.mail, ...(o.webhook ? [o.webhook] : [])].map((a) => <div key={a}>{a}</div>)}</td>
                <td>{plural(o.hosts, 'host')}{o.groups.length > 0 && <small>{o.groups.join(', ')}</small>}</td>
                <td><Link to={`/findings?owner=${encodeURIComponent(o.name)}`}>{o.findings.broken} broken, {o.findings.due} due</Link></td>
                <td className="n">{o.silent_until ? <span className="bad">silent until {moment(o.silent_until)}</span> : o.told_at ? ago(o.told_at) : 'never'}</td>
                {told && (
                  <td>
                    <Button aria-label={`Preview of what ${o.name} would be told`} onPress={() => show(o.name, 'events')}>Preview</Button>
                    <Button aria-label={`Digest of ${o.name}`} onPress={() => show(o.name, 'digest')}>Digest</Button>
                    {may && <Button aria-label={`Test to ${o.name}`} onPress={() => act(testNotice(o.name).then((v) => `${plural(v.items.length, 'test')} on the way to ${o.name}; see below whether it arrives.`))}>Test</Button>}
                  </td>
                )}
              </tr>
            ))}
          </tbody>
        </Plain>
      </Scroll>
      {shown && <Letter role="region" aria-label="Preview"><strong>{shown.subject}</strong><pre tabIndex={0}>{shown.text?.trim()}</pre><Button onPress={() => setShown(undefined)}>Close the preview</Button></Letter>}
    </Part>
  );
}

function Silences({ owners }: { owners: string[] }) {
  const may = useMay('operator');
  const q = api.useQuery('get', '/silences');
  const [owner, setOwner] = useState('all');
  const list = q.data?.items ?? [];
  if (!may && list.length === 0) return null;
  return (
    <Part aria-label="Silences">
      <h2>{list.length === 0 ? 'Everybody hears' : 'Silences'}</h2>
      {list.map((v) => (
        <Bar key={v.id}>
          <span><strong>{v.owner || 'Everybody'}</strong> hears nothing until {moment(v.until)}, by {v.by}: {v.reason}</span>
          {may && <Button aria-label={`End it: the silence of ${v.owner || 'everybody'}`} onPress={() => void endSilence(v.id)}>End it</Button>}
        </Bar>
      ))}
      {may && (
        <details>
          <summary>Have nobody told for a while</summary>
          <Form label="A silence" act="Begin it" onSend={(f) => silence(owner === 'all' ? '' : owner, Number(f('hours')), f('reason'))}>
            <Pick label="Who" value={owner} options={[['all', 'everybody'], ...owners.map((o): [string, string] => [o, o])]} onChange={setOwner} />
            <Input label="Hours" name="hours" type="number" value="2" hint="What happens meanwhile is told when they have passed" />
            <Input label="Why" name="reason" />
          </Form>
        </details>
      )}
    </Part>
  );
}

const states: [string, string][] = [['all', 'all'], ['waiting', 'waiting'], ['delivered', 'delivered'], ['undelivered', 'not delivered']];

function Messages() {
  const may = useMay('operator');
  const [state, setState] = useState('all');
  const [open, setOpen] = useState<number>();
  const q = api.useQuery('get', '/notices', { params: { query: { state: state as 'all', limit: 50 } } }, { refetchInterval: 5000 });
  const one = api.useQuery('get', '/notices/{id}', { params: { path: { id: open ?? 0 } } }, { enabled: open !== undefined });
  return (
    <Part aria-label="Messages">
      <h2>Messages</h2>
      <Bar><Choice label="State of messages" value={state} options={states} onChange={setState} /></Bar>
      {q.isPending ? <Loading rows={3} /> : q.isError ? <Failure error={q.error} retry={() => void q.refetch()} /> : q.data.items.length === 0 ? <p>None yet.</p> : (
        <Scroll tabIndex={0} role="region" aria-label="List of messages">
          <Plain>
            <thead><tr><th>Written</th><th>To</th><th>Subject</th><th>State</th><td /></tr></thead>
            <tbody>
              {q.data.items.map((n) => (
                <tr key={n.id}>
                  <td className="n">{moment(n.made_at)}</td>
                  <td>{n.owner}<small>{n.by === 'mail' ? n.receiver : `webhook ${n.receiver}`}</small></td>
                  <td>{n.subject}{n.trouble && <small className="bad">{n.trouble}</small>}</td>
                  <td className={n.state === 'delivered' || n.state === 'waiting' ? 'n' : 'n bad'}>{n.state === 'given-up' ? 'given up' : n.state}{n.next_at && <small>again {ahead(n.next_at)}</small>}</td>
                  <td className="n">
                    <Button aria-label={`Read message ${n.id}`} onPress={() => setOpen(n.id)}>Read</Button>
                    {may && n.state !== 'delivered' && n.tries > 0 && <Button aria-label={`Try again: message ${n.id}`} onPress={() => void tryNotice(n.id)}>Try again</Button>}
                  </td>
                </tr>
              ))}
            </tbody>
          </Plain>
        </Scroll>
      )}
      {q.data?.next_cursor && <p>The newest fifty. All of them: <code>insegna notice list</code></p>}
      {open !== undefined && one.data && <Letter role="region" aria-label={`Message ${open}`}><strong>{one.data.subject}</strong><pre tabIndex={0}>{one.data.text?.trim()}</pre><Button onPress={() => setOpen(undefined)}>Close the message</Button></Letter>}
    </Part>
  );
}
