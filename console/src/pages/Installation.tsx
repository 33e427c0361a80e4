import { useState } from 'react';
import { Link, useParams } from 'react-router';
import styled from 'styled-components';
import { useMay } from '../data/access';
import type { Problem } from '../data/client';
import { capital, moment } from '../data/format';
import { beginInstallation, called, changed, returnInstallation, standing, useInstallation, type Installation } from '../data/installations';
import { Bar, Button, Plain } from '../parts/Controls';
import { Diffs } from '../parts/Diffs';
import { Empty, Failure, Loading } from '../parts/States';
import { Steps } from '../parts/Steps';
import { space } from '../theme/tokens';
import { Standing } from './Mandates';

const Part = styled.section`
  margin-top: ${space(7)}; h2 { font-size: 20px; margin-bottom: ${space(3)}; } .wrap { overflow-wrap: anywhere; }
  ul { margin: 0; padding-left: ${space(6)}; li { overflow-wrap: anywhere; } }
`;

const Title = styled.h1`overflow-wrap: anywhere; margin-bottom: ${space(4)};`;

export function InstallationPage() {
  const number = Number(useParams().number);
  const q = useInstallation(number);
  if (q.isPending) return <Loading />;
  if (q.isError) return (q.error as Problem).status === 404 ? <Empty page title="No such installation"><p>{(q.error as Problem).detail}</p></Empty> : <Failure error={q.error} retry={() => void q.refetch()} />;
  const v = q.data;
  const [kind, text] = standing(v);
  return (
    <>
      <Title>{called(v)} on {v.server}</Title>
      <Standing $kind={kind}>{text}</Standing>
      {v.advice && <p>→ {v.advice}</p>}
      <Acts v={v} />
      {v.steps.length > 0 && <Part aria-label="Steps" aria-live="polite"><h2>Installation {v.number}, begun {v.started_at && moment(v.started_at)} by {v.by}</h2><Steps steps={v.steps} /></Part>}
      <Changes v={v} />
      <Notes v={v} />
      <Diffs files={v.files} />
    </>
  );
}

/** What a reload takes in besides. */
export function Notes({ v }: { v: Pick<Installation, 'notes' | 'server' | 'acts'> }) {
  if (v.notes.length === 0) return null;
  return (
    <Part aria-label="Besides">
      <h2>
        Besides, on {v.server}
        {v.acts.some((a) => a.does === 'reload' || a.does === 'live') && ', where a reload takes in everything that lies there'}
      </h2>
      <ul>{v.notes.map((n) => <li key={n}>{n}</li>)}</ul>
    </Part>
  );
}

/** What an installation changes, and where it is looked at. */
export function Changes({ v }: { v: Installation }) {
  const rows: [string, React.ReactNode][] = [
    ...v.mends.map((f): [string, React.ReactNode] => [f.finding === 0 ? 'Asked for' : `Finding ${f.finding}`, <>{f.host || v.server}, <code>{f.code}</code>: {f.does}</>]),
    ...(v.certificate ? [['Certificate', <Link key="c" to={`/mandates/${v.mandate}?order=${v.order}`}>of order {v.order}, {v.certificate.slice(0, 16)}</Link>] as [string, React.ReactNode]] : []),
    ...v.acts.map((a): [string, React.ReactNode] => [capital(a.does), a.what]),
    ['Configuration', v.files.length === 0 ? 'no file changes' : `${v.files.length === 1 ? 'one file changes' : `${v.files.length} files change`}, shown below`],
    ['Looked at', v.bindings.filter((d) => !d.neighbour).map((d) => `${d.plain ? 'http://' : ''}${d.host} at ${d.address}`).join(', ') || (v.mends.length > 0 ? 'nowhere: nothing of it is to be seen from outside' : 'nowhere: no address is known at which it is served')],
    ['Neighbours that keep theirs', v.bindings.filter((d) => d.neighbour).map((d) => `${d.host} at ${d.address}`).join(', ') || 'none'],
  ];
  return <Part aria-label="What changes"><h2>{v.state === 'previewed' ? 'What will change' : 'What this is about'}</h2><Plain><tbody>{rows.map(([k, text]) => <tr key={k}><th scope="row">{k}</th><td className="wrap">{text}</td></tr>)}</tbody></Plain></Part>;
}

/** Install what is previewed; take back what is done. */
function Acts({ v }: { v: Installation }) {
  const may = useMay('operator');
  const [busy, setBusy] = useState(false);
  const [says, setSays] = useState('');
  if (!may || (v.state !== 'previewed' && v.state !== 'done')) return null;
  const act = (call: () => Promise<unknown>) => {
    setBusy(true);
    setSays('');
    void call().then(changed).catch((e: unknown) => { const p = e as Partial<Problem>; setSays([p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')); }).finally(() => setBusy(false));
  };
  return (
    <>
      <Bar>
        {v.state === 'previewed' && <Button $main isDisabled={busy} onPress={() => act(() => beginInstallation(v.number))}>{v.mends.length > 0 ? 'Mend this' : 'Install this'}</Button>}
        {v.state === 'done' && <Button isDisabled={busy} onPress={() => { if (confirm(`Make everything on ${v.server} as it was before installation ${v.number}?`)) act(() => returnInstallation(v.number)); }}>Take it back</Button>}
      </Bar>
      {says && <Standing as="p" role="alert" $kind="failed">{says}</Standing>}
    </>
  );
}
