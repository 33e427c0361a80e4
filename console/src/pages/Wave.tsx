import { useState } from 'react';
import { Link, useParams } from 'react-router';
import styled from 'styled-components';
import { useMay } from '../data/access';
import type { Problem, Schemas } from '../data/client';
import { moment } from '../data/format';
import { standing } from '../data/installations';
import { beginWave, keepWave, returnWave, useWave, wavesChanged, waveStanding, type Wave } from '../data/waves';
import { Bar, Button } from '../parts/Controls';
import { Diffs } from '../parts/Diffs';
import { Empty, Failure, Loading } from '../parts/States';
import { color, font, space } from '../theme/tokens';
import { Notes } from './Installation';
import { Standing } from './Mandates';

const Title = styled.h1`overflow-wrap: anywhere; margin-bottom: ${space(4)};`;

const Told = styled.p`margin-top: ${space(4)}; max-width: 76ch;`;

const Groups = styled.ol`
  list-style: none; margin: ${space(7)} 0 0; padding: 0;
  > li { display: grid; grid-template-columns: 44px minmax(0, 1fr); gap: ${space(4)}; padding-bottom: ${space(6)}; position: relative; }
  > li:not(:last-child)::before { content: ''; position: absolute; left: 17px; top: 38px; bottom: 2px; width: 3px; background: ${color.line}; }
  .number { width: 36px; height: 36px; border: 3px solid ${color.line}; border-radius: 50%; display: grid; place-items: center; font: 600 17px ${font.sign}; }
  .servers { display: grid; gap: ${space(3)}; }
  h2 { font-size: 18px; } .when { color: ${color.soft}; font-size: 14px; } ul { margin: ${space(2)} 0 0; padding-left: ${space(5)}; } li { overflow-wrap: anywhere; }
`;

const marks = { running: '◷', failed: '✗', fine: '✓', never: '·' } as const;

export function WavePage() {
  const number = Number(useParams().number);
  const q = useWave(number);
  if (q.isPending) return <Loading />;
  if (q.isError) return (q.error as Problem).status === 404 ? <Empty page title="No such wave"><p>{(q.error as Problem).detail}</p></Empty> : <Failure error={q.error} retry={() => void q.refetch()} />;
  const w = q.data;
  const [kind, text] = waveStanding(w);
  const all = w.groups.flat();
  return (
    <>
      <Title><Link to={`/mandates/${w.mandate}`}>{w.mandate}</Link> on {all.length === 1 ? 'one server' : `${all.length} servers`}, in a wave</Title>
      <Standing $kind={kind} aria-live="polite">{text}</Standing>
      <Told>The certificate of order {w.order}{w.started_at ? `, begun ${moment(w.started_at)} by ${w.by}` : `, previewed by ${w.by}`}. Those furthest behind the visitor go first; a group goes once the one before is seen to be well.{w.there.length > 0 && ` ${w.there.join(', ')} ${w.there.length === 1 ? 'has' : 'have'} it already.`}</Told>
      <Acts w={w} />
      <Groups aria-label="Groups in their order">
        {w.groups.map((group, i) => (
          <li key={i}>
            <span className="number" aria-label={`group ${i + 1}`}>{i + 1}</span>
            <div className="servers">{group.map((s) => <ServerOf key={s.server} s={s} />)}</div>
          </li>
        ))}
      </Groups>
      {w.state === 'previewed' && all.map((s) => s.installation && (
        <div key={s.server}><Notes v={s.installation} /><Diffs files={s.installation.files} /></div>
      ))}
    </>
  );
}

/** One server of a wave: how it stands, and what is done there. */
function ServerOf({ s }: { s: Schemas['WaveServer'] }) {
  const v = s.installation;
  if (!v) return <Standing as="div" $kind="failed"><h2>✗ {s.server}</h2>what was previewed for it is gone</Standing>;
  const [kind, text] = standing(v);
  return (
    <Standing as="div" $kind={kind}>
      <h2><span aria-hidden="true">{marks[kind]}</span> <Link to={`/installations/${v.number}`}>{s.server}</Link></h2>
      {v.state === 'previewed' ? 'waits for its turn' : v.state === 'done' ? 'new: visitors get this certificate' : text}
      {v.finished_at && <span className="when">, {moment(v.finished_at)}</span>}
      {v.state === 'previewed' && <ul>{v.acts.map((a) => <li key={a.does + a.what}><strong>{a.does}</strong> {a.what}</li>)}</ul>}
    </Standing>
  );
}

/** Begin what is previewed; go back everywhere, or leave what has stopped. */
function Acts({ w }: { w: Wave }) {
  const may = useMay('operator');
  const [busy, setBusy] = useState(false);
  const [says, setSays] = useState('');
  if (!may || !['previewed', 'done', 'stopped'].includes(w.state)) return null;
  const act = (call: () => Promise<unknown>) => {
    setBusy(true);
    setSays('');
    void call().then(wavesChanged).catch((e: unknown) => { const p = e as Partial<Problem>; setSays([p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')); }).finally(() => setBusy(false));
  };
  return (
    <>
      <Bar>
        {w.state === 'previewed' && <Button $main isDisabled={busy} onPress={() => act(() => beginWave(w.number))}>Begin this wave</Button>}
        {(w.state === 'done' || w.state === 'stopped') && <Button isDisabled={busy} onPress={() => { if (confirm(`Make every server as it was before wave ${w.number}?`)) act(() => returnWave(w.number)); }}>Go back everywhere</Button>}
        {w.state === 'stopped' && <Button isDisabled={busy} onPress={() => act(() => keepWave(w.number))}>Leave it as it is</Button>}
      </Bar>
      {says && <Standing as="p" role="alert" $kind="failed">{says}</Standing>}
    </>
  );
}
