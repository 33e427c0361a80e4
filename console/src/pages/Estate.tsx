import { useState } from 'react';
import { Link } from 'react-router';
import styled from 'styled-components';
import { useMay } from '../data/access';
import { api, type Schemas } from '../data/client';
import { keepHost, removeHost } from '../data/estate';
import { moment, plural } from '../data/format';
import { Belongs } from '../parts/Belonging';
import { Bar, Button, Pick, Plain, Scroll, Search } from '../parts/Controls';
import { EstateDraft, EstateEditor } from '../parts/EstateEditor';
import { Form, Input } from '../parts/Form';
import { Empty, Failure, Loading } from '../parts/States';
import { color, font, space } from '../theme/tokens';

const Part = styled.section`
  margin-top: ${space(7)}; h2 { font-size: 20px; margin-bottom: ${space(3)}; } details { margin-top: ${space(4)}; } summary { cursor: pointer; font-weight: 600; } details > div, details > form { margin-top: ${space(3)}; }
  code.at { font: 14px ${font.mono}; color: ${color.soft}; overflow-wrap: anywhere; } td button { margin-right: ${space(2)}; }
`;

type Estate = Schemas['Estate'];
type Host = Schemas['EstateHost'];

/** A place in an estate file, short. */
const spot = (file: string | undefined, line: number) => `${file?.split('/').at(-1) ?? 'estate file'}:${line}`;

/** Hosts shown before more are asked for. */
const few = 100;

/** What is declared where, and what was made here. */
export function EstatePage() {
  const q = api.useQuery('get', '/estate', {}, { retry: false });
  const may = useMay('admin');
  if (q.isPending) return <Loading />;
  if (q.isError && q.error.status === 409) return <FirstEstate />;
  if (q.isError) return <Failure error={q.error} retry={() => void q.refetch()} />;
  const e = q.data;
  return (
    <>
      <h1>{e.name}</h1>
      <p>Declared in <code>{e.file}</code>, applied {moment(e.applied_at)}: {plural(e.hosts.length, 'host')} on {plural(e.servers.length, 'server')}. What a file declares is changed there; hosts that were taken in here are changed here.</p>
      <Hosts e={e} />
      <Part aria-label="Servers">
        <h2>Servers</h2>
        <Scroll tabIndex={0} role="region" aria-label="List of servers">
          <Plain>
            <thead><tr><th>Server</th><th>Kind</th><th>Addresses</th><th>Ports</th><th>Declared</th></tr></thead>
            <tbody>{e.servers.slice(0, 500).map((s) => <tr key={s.name}><td><Link to={`/servers/${encodeURIComponent(s.name)}`}>{s.name}</Link></td><td>{s.kind}</td><td>{s.addresses.join(', ')}</td><td>{s.ports.join(', ')}</td><td><code className="at">{spot(s.file, s.line)}</code></td></tr>)}</tbody>
          </Plain>
        </Scroll>
        {e.servers.length > 500 && <p>The first 500. All of them: <Link to="/servers">Servers</Link>.</p>}
      </Part>
      {may && (
        <Part aria-label="The file">
          <h2>The file</h2>
          <details><summary>Change it here</summary><div>{new Set([...e.hosts, ...e.servers].map((x) => x.file).filter(Boolean)).size > 1 ? <p>Several files declare it together; change it in them, and apply their folder again.</p>
            : <><p>It is kept as <code>console.yaml</code> then, and no file of yours declares the estate any more. To have it as a file: <code>insegna estate export</code></p><EstateEditor key={e.applied_at} file="console.yaml" text={e.text} /></>}</div></details>
          <details><summary>Draft it anew from what is there</summary><EstateDraft /></details>
        </Part>
      )}
    </>
  );
}

/** The first page of a service that watches nothing yet. */
export function FirstEstate() {
  const may = useMay('admin');
  return (
    <>
      <Empty page title="No estate yet">
        <p>Insegna watches what an estate file declares. Have one drafted of what is there, correct it, and apply it{may ? ': here, or where your servers are' : ''}:</p>
        <p><code>insegna estate draft --out estate.yaml</code></p>
        <p><code>insegna estate apply estate.yaml</code></p>
        <p>Its form is described by <code>insegna estate schema</code>.</p>
      </Empty>
      {may && <Part aria-label="Draft"><h2>Draft one from here</h2><EstateDraft /></Part>}
    </>
  );
}

function Hosts({ e }: { e: Estate }) {
  const may = useMay('admin');
  const [query, setQuery] = useState('');
  const [all, setAll] = useState(false);
  const [changing, setChanging] = useState<Host>();
  const fits = e.hosts.filter((h) => h.name.includes(query.toLowerCase()) || h.at.some((a) => a.includes(query)) || h.belongs?.tags?.includes(query));
  const shown = all ? fits : fits.slice(0, few);
  return (
    <Part aria-label="Hosts">
      <h2>Hosts</h2>
      <Bar><Search label="Host, server or tag" value={query} onChange={setQuery} /></Bar>
      <Scroll tabIndex={0} role="region" aria-label="List of hosts">
        <Plain>
          <thead><tr><th>Host</th><th>Wanted at</th><th>Belongs to</th><th>Declared</th></tr></thead>
          <tbody>
            {shown.map((h) => (
              <tr key={h.name}>
                <td>{h.name}</td><td>{h.at.join(', ')}{h.wanted_issuer && <><br /><small>from {h.wanted_issuer}</small></>}</td><td><Belongs to={h.belongs} /></td>
                <td>{!h.by ? <code className="at">{spot(h.file, h.line)}</code> : (
                  <>taken in by {h.by}{may && <><br /><Button aria-label={`Change ${h.name}`} onPress={() => setChanging(h)}>Change</Button><Button aria-label={`Let it go: ${h.name}`} onPress={() => { if (confirm(`Let ${h.name} go? Its findings close, and nobody looks at it any more.`)) void removeHost(h.name); }}>Let it go</Button></>}</>
                )}</td>
              </tr>
            ))}
          </tbody>
        </Plain>
      </Scroll>
      {fits.length > shown.length && <Bar><Button onPress={() => setAll(true)}>Show all {fits.length}</Button></Bar>}
      {may && changing && <HostForm key={changing.name} e={e} host={changing} onDone={() => setChanging(undefined)} />}
      {may && <details><summary>Take a host in</summary><HostForm e={e} /></details>}
    </Part>
  );
}

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);

function HostForm({ e, host, onDone }: { e: Estate; host?: Host; onDone?: () => void }) {
  const [group, setGroup] = useState(host?.belongs?.group ?? 'none');
  const [owner, setOwner] = useState(host?.belongs?.owner ?? 'none');
  const pick = (label: string, names: string[], value: string, set: (v: string) => void) => names.length > 0 && (
    <Pick label={label} value={value} options={[['none', 'none'], ...names.map((n): [string, string] => [n, n])]} onChange={set} />
  );
  return (
    <Form label={host ? `Change ${host.name}` : 'Take a host in'} act={host ? 'Change it' : 'Take it in'} onSend={async (f) => {
      const issuer = f('issuer').trim();
      await keepHost({ name: host?.name ?? f('name').trim(), at: words(f('at')), ...(words(f('tags')).length > 0 ? { tags: words(f('tags')) } : {}), ...(group !== 'none' ? { group } : {}), ...(owner !== 'none' ? { owner } : {}), ...(issuer ? { wanted: { issuer } } : {}) }, host !== undefined);
      onDone?.();
    }}>
      {host ? <h3>{host.name}</h3> : <Input label="Host name" name="name" />}
      <Input label="Where it is wanted" name="at" value={host?.at.join(', ') ?? ''} hint={`Servers, or SERVER:PORT, behind commas: ${e.servers.slice(0, 6).map((s) => s.name).join(', ')}${e.servers.length > 6 ? '…' : ''}`} />
      <Input label="Issuer that is wanted" name="issuer" optional value={host?.wanted_issuer ?? ''} />
      {pick('Group', e.groups, group, setGroup)}
      {pick('Owner', e.owners, owner, setOwner)}
      <Input label="Tags" name="tags" optional value={host?.belongs?.tags?.join(', ') ?? ''} />
    </Form>
  );
}
