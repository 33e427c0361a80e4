import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { useMay } from '../data/access';
import type { Problem, Schemas } from '../data/client';
import { moment } from '../data/format';
import { previewInstallation, standing as installationStanding, useInstallations } from '../data/installations';
import { previewWave, useWaves, waveOrder, waveStanding } from '../data/waves';
import { beginOrder, changed, checkMandate, placed, removeMandate, running, standing, useMandate, useOrder, useOrders, visitMandate, type Mandate, type Order } from '../data/mandates';
import { Bar, Button, Plain, Scroll } from '../parts/Controls';
import { Empty, Failure, Loading } from '../parts/States';
import { Preflight } from '../parts/Preflight';
import { GiveOut } from '../parts/GiveOut';
import { Steps } from '../parts/Steps';
import { Waiting } from '../parts/Waiting';
import { Trail, Visits } from '../parts/Trail';
import { space } from '../theme/tokens';
import { Next, Standing } from './Mandates';

const Part = styled.section`
  margin-top: ${space(7)}; .wrap { overflow-wrap: anywhere; white-space: pre-line; } h3 { margin: ${space(4)} 0 ${space(2)}; overflow-wrap: anywhere; } th[scope="row"] { width: 190px; }
  h2 { font-size: 20px; margin-bottom: ${space(3)}; }
`;

const Title = styled.h1`overflow-wrap: anywhere; margin-bottom: ${space(4)};`;

export function MandatePage() {
  const { name = '' } = useParams();
  const q = useMandate(name);
  const [params, setParams] = useSearchParams();
  const chosen = params.get('order') ? Number(params.get('order')) : undefined;
  const show = (n: number) => setParams((p) => { p.set('order', String(n)); return p; }, { replace: true });
  if (q.isPending) return <Loading />;
  if (q.isError) return (q.error as Problem).status === 404 ? <Empty page title="No such mandate"><p>{(q.error as Problem).detail}</p></Empty> : <Failure error={q.error} retry={() => void q.refetch()} />;
  const m = q.data;
  const [kind, text] = standing(m);
  const latest = [m.last, m.rehearsed].filter((o): o is Order => o !== undefined).sort((a, b) => b.number - a.number)[0];
  return (
    <>
      <Title>{m.name}: {m.names.join(', ')}</Title>
      <Standing $kind={kind}>{text}</Standing>
      <Next m={m} />
      <Acts m={m} onBegun={show} />
      {m.trail.length > 0 && <Part aria-label="Trail"><h2>From the order to what visitors see</h2><Trail entries={m.trail} /></Part>}
      <OrderSteps number={chosen ?? latest?.number} />
      <Installations m={m} />
      <Facts m={m} />
      <History name={m.name} onShow={show} />
    </>
  );
}

function Facts({ m }: { m: Mandate }) {
  const rehearsed = m.rehearsed ? [`${moment(m.rehearsed.begun_at)}: ${m.rehearsed.state} at the test directory`, ...m.rehearsed_on.map((v) => `${v.server}: ${installationStanding(v)[1]}`)].join('\n') : 'never';
  const rows: [string, string][] = [
    ['From', [m.ca, ...m.otherwise].join(', else ') + (m.profile && `, profile ${m.profile}`)], ['Proved by', m.proof === 'none' ? 'nothing: nobody asks' : `${m.proof} ${m.proof_at}`], ['Key', m.key_on ? `${m.key}, made on ${m.key_on} and kept there alone` : m.key], ['Belongs on', m.install.join(', ') || 'not said'], ['Is installed on', m.installed_on.join(', ') || 'no server yet'], ['Last rehearsal', rehearsed],
    ['Budget of the CA', m.budget.certificates > 0 ? `${m.budget.used} of ${m.budget.certificates} used in ${m.budget.days} days` : 'not declared'], ['Declared', m.place || `made by ${m.made_by}`],
  ];
  return <Part aria-label="The mandate"><Plain><tbody>{rows.map(([k, v]) => <tr key={k}><th scope="row">{k}</th><td className="wrap">{v}</td></tr>)}</tbody></Plain></Part>;
}

/** What an order uses up, as far as it is declared. */
const budget = (m: Mandate) => (m.budget.certificates > 0 ? `, of whose budget ${m.budget.used} of ${m.budget.certificates} in ${m.budget.days} days are used` : '');

/** What can be done: try, rehearse, order, end. */
function Acts({ m, onBegun }: { m: Mandate; onBegun: (n: number) => void }) {
  const operator = useMay('operator');
  const admin = useMay('admin');
  const go = useNavigate();
  const [trials, setTrials] = useState<Schemas['TrialList']>();
  const [visits, setVisits] = useState<Schemas['VisitList']>();
  const [busy, setBusy] = useState('');
  const [says, setSays] = useState('');
  if (!operator) return null;
  const act = (what: string, call: () => Promise<unknown>) => {
    setBusy(what);
    setSays('');
    void call().then(changed).catch((e: unknown) => { const p = e as Partial<Problem>; setSays([p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')); }).finally(() => setBusy(''));
  };
  const begin = (rehearsal: boolean) => act('order', async () => onBegun((await beginOrder(m.name, rehearsal)).number));
  return (
    <>
      <Bar>
        <Button $main isDisabled={busy !== ''} onPress={() => act('check', async () => setTrials(await checkMandate(m.name)))}>{busy === 'check' ? 'Trying…' : 'Pre-flight'}</Button>
        <Button isDisabled={busy !== '' || running(m) || m.last?.waits === true} onPress={() => begin(true)}>Rehearse</Button>
        <Button isDisabled={busy !== '' || running(m) || m.last?.waits === true} onPress={() => { if (confirm(m.in_force ? `A certificate of ${m.name} is there already. Order another one from ${m.ca}${budget(m)}?` : `Order a certificate of ${m.name} from ${m.ca}${budget(m)}?`)) begin(false); }}>Order now</Button>
        <Button isDisabled={busy !== ''} onPress={() => act('visit', async () => setVisits(await visitMandate(m.name)))}>{busy === 'visit' ? 'Visiting…' : 'Visit'}</Button>
        {admin && !m.place && <Button onPress={() => { const used = m.seen_at > 0 || m.installed_on.length > 0; if (confirm(used ? `The certificate of ${m.name} is still used: ${[m.installed_on.length > 0 ? `installed on ${m.installed_on.join(', ')}` : '', m.seen_at > 0 ? placed(m) : ''].filter(Boolean).join(', ')}. Without the mandate nobody renews it. End it all the same?` : `End the mandate ${m.name}? Its orders stay as history.`)) act('remove', async () => { await removeMandate(m.name, used); await go('/mandates'); }); }}>End it</Button>}
      </Bar>
      {says && <Standing as="p" role="alert" $kind="failed">{says}</Standing>}
      {trials && <Preflight items={trials.items} />}
      {visits && <Part aria-label="Visit"><h2>{visits.well ? 'Visit: all is well on a visitor\'s way' : 'Visit: not all is well on a visitor\'s way'}</h2><Visits visits={visits} /></Part>}
    </>
  );
}

/** An order's steps as they come, and kept. */
export function OrderSteps({ number }: { number: number | undefined }) {
  const q = useOrder(number);
  if (number === undefined) return <Part aria-label="Order"><h2>Never ordered</h2><p>Try it first with Pre-flight; Rehearse then runs it against the CA's test directory, which costs nothing of the budget.</p></Part>;
  if (q.isPending) return <Loading rows={4} />;
  if (q.isError) return <Failure error={q.error} retry={() => void q.refetch()} />;
  const o = q.data;
  return (
    <Part aria-label="Order" aria-live="polite">
      <h2>{o.rehearsal ? 'Rehearsal' : 'Order'} {o.number}, begun {moment(o.begun_at)} by {o.by}: {o.waits ? 'waits for a person' : o.way === 'taken' ? 'taken in' : o.state}</h2>
      <Steps steps={o.steps} />
      {o.waits && <Waiting o={o} />}
      {o.failure?.again && <p>It is not tried before {moment(o.failure.again)}.</p>}
      {o.certificate && !o.rehearsal && <p>Certificate <code>{o.certificate.slice(0, 16)}</code> {o.key_on ? <>lies in the safe, and its key on <Link to={`/servers/${o.key_on}`}>{o.key_on}</Link> alone.</> : 'and its key lie in the safe.'}</p>}
      {o.certificate && !o.rehearsal && !o.key_on && <GiveOut order={o.number} mandate={o.mandate} />}
    </Part>
  );
}

/** Stands for every server of a mandate, where one is asked for. */
const everywhere = '*';

/** Where the certificate is installed, and the means to install it. */
function Installations({ m }: { m: Mandate }) {
  const q = useInstallations(m.name);
  const may = useMay('operator');
  const go = useNavigate();
  const [busy, setBusy] = useState('');
  const [says, setSays] = useState('');
  const waves = useWaves(m.name);
  const preview = (server: string) => {
    setBusy(server);
    setSays('');
    const asked = server === everywhere ? previewWave(m.name).then((w) => go(`/waves/${w.number}`)) : previewInstallation(m.name, server).then((v) => go(`/installations/${v.number}`));
    void asked.catch((e: unknown) => { const p = e as Partial<Problem>; setSays([p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')); }).finally(() => setBusy(''));
  };
  const servers = [...new Set(m.install.map((ref) => ref.replace(/:.*/, '')))];
  return (
    <Part aria-label="Installations">
      <h2>Installations</h2>
      {q.isError && <Failure what="Its installations" error={q.error} retry={() => void q.refetch()} />}
      {q.data && q.data.items.length > 0 && (
        <Scroll tabIndex={0} role="region" aria-label="List of installations">
          <Plain>
            <thead><tr><th>Number</th><th>Server</th><th>Certificate</th><th>When</th><th>State</th></tr></thead>
            <tbody>
              {q.data.items.map((v) => (
                <tr key={v.number}><td><Link to={`/installations/${v.number}`}>{v.number}</Link></td><td>{v.server}</td><td><code>{v.certificate?.slice(0, 12)}</code></td><td className="n">{moment(v.finished_at ?? v.started_at ?? v.previewed_at)}</td><td className="wrap">{installationStanding(v)[1]}</td></tr>
              ))}
            </tbody>
          </Plain>
        </Scroll>
      )}
      {servers.length === 0 ? <p>The mandate does not say where it is installed.</p> : may && m.in_force && (
        <Bar>{servers.length > 1 && <Button $main isDisabled={busy !== ''} onPress={() => preview(everywhere)}>{busy === everywhere ? 'Working it out…' : 'Preview everywhere, in a wave'}</Button>}{servers.map((s) => <Button key={s} isDisabled={busy !== ''} onPress={() => preview(s)}>{busy === s ? 'Working it out…' : `Preview on ${s}`}</Button>)}</Bar>
      )}
      {says && <Standing as="p" role="alert" $kind="failed">{says}</Standing>}
      {waves.data && waves.data.items.length > 0 && (
        <Scroll tabIndex={0} role="region" aria-label="List of waves">
          <Plain>
            <thead><tr><th>Wave</th><th>Servers, in their order</th><th>When</th><th>State</th></tr></thead>
            <tbody>{waves.data.items.map((w) => <tr key={w.number}><td><Link to={`/waves/${w.number}`}>{w.number}</Link></td><td className="wrap">{waveOrder(w)}</td><td className="n">{moment(w.finished_at ?? w.started_at ?? w.previewed_at)}</td><td className="wrap">{waveStanding(w)[1]}</td></tr>)}</tbody>
          </Plain>
        </Scroll>
      )}
    </Part>
  );
}

function History({ name, onShow }: { name: string; onShow: (n: number) => void }) {
  const q = useOrders(name);
  if (q.isError) return <Part aria-label="Orders before"><Failure what="Its orders" error={q.error} retry={() => void q.refetch()} /></Part>;
  if (!q.data || q.data.items.length < 2) return null;
  return (
    <Part aria-label="Orders before">
      <h2>Orders</h2>
      <Scroll tabIndex={0} role="region" aria-label="List of orders">
        <Plain>
          <thead><tr><th>Order</th><th>Begun</th><th>By</th><th>State</th></tr></thead>
          <tbody>
            {q.data.items.map((o) => (
              <tr key={o.number}><td><Button onPress={() => onShow(o.number)}>{o.number}</Button></td><td className="n">{moment(o.begun_at)}</td><td>{o.by}</td><td>{o.state}{o.rehearsal && ' (rehearsal)'}{o.failure && `: ${o.failure.kind}`}</td></tr>
            ))}
          </tbody>
        </Plain>
      </Scroll>
    </Part>
  );
}
