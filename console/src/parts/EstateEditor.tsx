import { useState, type ReactNode } from 'react';
import styled from 'styled-components';
import type { Problem, Schemas } from '../data/client';
import { applyEstate, draftEstate, previewEstate, type DraftRequest } from '../data/estate';
import { plural } from '../data/format';
import { color, font, radius, space } from '../theme/tokens';
import { Bar, Button, Plain, Scroll } from './Controls';
import { Form, Input } from './Form';

const Box = styled.div`
  textarea.file { width: 100%; min-height: 420px; font: 14px/1.45 ${font.mono}; color: ${color.ink}; background: ${color.raised}; border: 1px solid ${color.soft}; border-radius: ${radius}; padding: ${space(3)}; tab-size: 2; }
  .says { color: ${color.oxide}; font-weight: 600; white-space: pre-wrap; overflow-wrap: anywhere; margin: ${space(3)} 0; } .gone { color: ${color.oxide}; font-weight: 700; }
  .more { display: grid; gap: ${space(4)}; margin-top: ${space(3)}; } summary { cursor: pointer; font-weight: 600; }
  label.check { display: flex; gap: ${space(2)}; align-items: center; }
`;

/** What a problem says, each fault with its place. */
function said(e: unknown): string {
  const p = e as Partial<Problem>;
  return [p.detail ?? p.title ?? 'the service does not answer', ...(p.errors ?? []).map((x) => `${x.place ? `${x.place}: ` : ''}${x.message}${x.expected ? `; expected ${x.expected}` : ''}`), p.next].filter(Boolean).join('\n');
}

/** An estate file to correct: previewed, then applied. What goes is named and asked. */
export function EstateEditor({ file, text: first, onDone }: { file: string; text: string; onDone?: () => void }) {
  const [text, setText] = useState(first);
  const [changes, setChanges] = useState<Schemas['EstateChanges']>();
  const [says, setSays] = useState('');
  const [busy, setBusy] = useState(false);
  const run = (call: () => Promise<void>) => { setBusy(true); setSays(''); void call().catch((e: unknown) => setSays(said(e))).finally(() => setBusy(false)); };
  const gone = changes?.changes.filter((c) => c.change === 'gone') ?? [];
  const apply = async () => {
    if (gone.length > 0 && !confirm(`${plural(gone.length, 'thing')} will be gone: ${gone.slice(0, 10).map((c) => `${c.kind} ${c.name}`).join(', ')}${gone.length > 10 ? '…' : ''}. Its findings close, and nobody looks at it any more. Apply it?`)) return;
    await applyEstate(file, text);
    setChanges(undefined);
    onDone?.();
  };
  return (
    <Box>
      <textarea className="file" aria-label="Estate file" spellCheck="false" value={text} onChange={(e) => { setText(e.target.value); setChanges(undefined); }} />
      {says && <p className="says" role="alert">{says}</p>}
      <Bar>
        <Button isDisabled={busy} $main={!changes} onPress={() => run(async () => setChanges(await previewEstate(file, text)))}>What it changes</Button>
        {changes && changes.changes.length > 0 && <Button $main isDisabled={busy} onPress={() => run(apply)}>Apply it</Button>}
      </Bar>
      {changes && (changes.changes.length === 0 ? <p role="status">It declares what is in force already.</p> : (
        <Scroll tabIndex={0} role="region" aria-label="What it changes">
          <Plain>
            <thead><tr><th>Change</th><th>What</th><th>Name</th><th>Fields</th></tr></thead>
            <tbody>{changes.changes.slice(0, 200).map((c) => <tr key={c.change + c.kind + c.name}><td className={c.change}>{c.change}</td><td>{c.kind}</td><td>{c.name}</td><td>{c.fields.join('; ')}</td></tr>)}</tbody>
          </Plain>
          {changes.changes.length > 200 && <p>And {changes.changes.length - 200} more.</p>}
        </Scroll>
      ))}
    </Box>
  );
}

const lines = (text: string) => text.split('\n').map((l) => l.trim()).filter(Boolean);

/** Drafts an estate file from what is there, and lets it be corrected and applied. */
export function EstateDraft({ children }: { children?: ReactNode }) {
  const [here, setHere] = useState(true);
  const [draft, setDraft] = useState<Schemas['Draft']>();
  const [stranger, setStranger] = useState<{ body: DraftRequest; says: string; key: string }>();
  const work = async (body: DraftRequest) => {
    setStranger(undefined);
    try {
      setDraft(await draftEstate(body));
    } catch (e) {
      const p = e as Problem;
      const key = /not known yet: (.+)$/.exec(p.detail ?? '')?.[1];
      if (p.title !== 'Unknown host key' || !key) throw e;
      setStranger({ body, says: p.detail ?? '', key });
    }
  };
  return (
    <Box>
      {children}
      <Form label="Draft an estate" act="Draft it" keep onSend={(f) => work({
        here, servers: lines(f('servers')), names: lines(f('names')), transfers: lines(f('transfers')), configurations: lines(f('configurations')), certificates: lines(f('certificates')), ranges: lines(f('ranges')), allow: lines(f('allow')), ...(f('zone').trim() ? { zone: f('zone') } : {}),
        ...(f('origin').trim() ? { origin: f('origin').trim() } : {}), ...(f('ports').trim() ? { ports: f('ports').split(/[\s,]+/).filter(Boolean).map(Number) } : {}),
      })}>
        <label className="check"><input type="checkbox" checked={here} onChange={(e) => setHere(e.target.checked)} /> The servers of the machine the service runs on</label>
        <details>
          <summary>From other machines, names, zones, ranges, copies</summary>
          <div className="more">
        <Input label="Servers of other machines, over SSH" name="servers" lines={2} optional hint="USER@HOST[:PORT], one a line; the service's key or agent is used" />
        <Input label="Host names" name="names" lines={3} optional hint="One a line; looked up, and looked at" />
        <Input label="Ports they are looked at" name="ports" optional hint="443 without any; several behind commas" />
        <Input label="A zone" name="zone" lines={4} optional hint="Text of a zone file (RFC 1035)" />
        <Input label="Its origin, where it says none" name="origin" optional />
        <Input label="Zones to be handed over" name="transfers" lines={2} optional hint="ZONE@SERVER[:PORT], one a line" />
        <Input label="Ranges of addresses to look through" name="ranges" lines={2} optional hint="Such as 192.0.2.0/28, one a line; only within those that are yours" />
        <Input label="Ranges that are yours" name="allow" lines={2} optional hint="One a line" />
        <Input label="Configurations that were copied" name="configurations" lines={2} optional hint="PATH[@ADDRESS,…] on the service's machine, one a line" />
        <Input label="Folders of certificates" name="certificates" lines={2} optional hint="Paths on the service's machine, one a line" />
          </div>
        </details>
      </Form>
      {stranger && (
        <p className="says" role="alert">
          {stranger.says}{'\n'}The machine itself tells its own: ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub{'\n'}
          <Button onPress={() => void work({ ...stranger.body, host_keys: [...(stranger.body.host_keys ?? []), stranger.key] })}>It is that machine&apos;s: keep it, and go on</Button>
        </p>
      )}
      {draft && (
        <>
          <p role="status">{plural(draft.watched, 'host')} on {plural(draft.servers, 'server')}{draft.doubted > 0 && `; not watched, and as comments with why: ${plural(draft.doubted, 'host')}`}. Correct it, see what it changes, and apply it.</p>
          <EstateEditor key={draft.text} file="console-draft.yaml" text={draft.text} />
        </>
      )}
    </Box>
  );
}
