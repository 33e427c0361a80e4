import { useState } from 'react';
import { Link } from 'react-router';
import styled from 'styled-components';
import { addPerson, changed, changePassphrase, changePerson, invitePerson, makeToken, removePerson, revokeToken, roles, signOut, useMay, useWho, type Role } from '../data/access';
import { api, type Problem, type Schemas } from '../data/client';
import { moment } from '../data/format';
import { makeFeed, revokeFeed } from '../data/notices';
import { Bar, Button, Pick, Plain, Scroll } from '../parts/Controls';
import { Form, Input } from '../parts/Form';
import { Failure, Loading } from '../parts/States';
import { color, font, radius, space } from '../theme/tokens';

const Part = styled.section`
  margin-top: ${space(8)};
  h2 { font-size: 20px; margin-bottom: ${space(3)}; }
  .says { color: ${color.oxide}; font-weight: 600; }
  details { margin-top: ${space(4)}; } summary { cursor: pointer; font-weight: 600; } details > form { margin-top: ${space(3)}; }
`;

const Once = styled.div`
  border: 2px solid ${color.brassFill}; border-radius: ${radius}; background: ${color.raised}; padding: ${space(4)}; margin: ${space(4)} 0;
  code { display: block; font: 15px ${font.mono}; overflow-wrap: anywhere; margin: ${space(2)} 0; user-select: all; }
`;

/** Something shown this once, such as a link or a token. */
function ShownOnce({ says, text, onClose }: { says: string; text: string; onClose: () => void }) {
  return (
    <Once role="status">
      <p>{says}</p>
      <code>{text}</code>
      <Button onPress={onClose}>I have it</Button>
    </Once>
  );
}

export function Settings() {
  const who = useWho();
  if (who.isPending) return <Loading />;
  if (who.isError) return <Failure error={who.error} retry={() => void who.refetch()} />;
  return (
    <>
      <h1>You are {who.data.person}, {who.data.role}</h1>
      <Bar><span>Signed in until {moment(who.data.expires_at)} at the latest.</span><Button onPress={() => void signOut()}>Sign out</Button></Bar>
      <details>
        <summary>Change your passphrase</summary>
        <Form label="Change your passphrase" act="Change it" onSend={(f) => changePassphrase(f('before'), f('next'))}>
          <Input label="Passphrase until now" name="before" type="password" autoComplete="current-password" />
          <Input label="New passphrase" name="next" type="password" autoComplete="new-password" hint="At least 12 characters. Your other sessions end." />
        </Form>
      </details>
      <Part aria-label="Messages"><h2>Messages</h2><p><Link to="/notices">Who is told of what, and whether it arrived</Link></p></Part>
      <Feeds />
      <Tokens role={who.data.role} />
      <People />
    </>
  );
}

function Feeds() {
  const q = api.useQuery('get', '/feeds');
  const estate = api.useQuery('get', '/estate', {}, { retry: false });
  const [owner, setOwner] = useState('all');
  const [fresh, setFresh] = useState<Schemas['Feed']>();
  return (
    <Part aria-label="Calendar">
      <h2>Calendar of ends, renewals and acceptances</h2>
      {fresh?.path && <ShownOnce says={`The address of “${fresh.name}”, shown this once. Whoever has it reads the calendar.`} text={`${location.origin}${fresh.path}`} onClose={() => setFresh(undefined)} />}
      {q.isPending ? <Loading rows={2} /> : q.isError ? <Failure error={q.error} retry={() => void q.refetch()} /> : q.data.items.length === 0 ? <p>It has no address yet.</p> : (
        <Scroll tabIndex={0} role="region" aria-label="Addresses of the calendar">
          <Plain>
            <thead><tr><th>For</th><th>Of</th><th>Person</th><th>Last read</th><td /></tr></thead>
            <tbody>
              {q.data.items.map((f) => (
                <tr key={f.id}>
                  <td>{f.name}</td><td>{f.owner || 'all'}</td><td>{f.person}</td><td className="n">{f.used_at ? moment(f.used_at) : 'never'}</td>
                  <td><Button aria-label={`Revoke the address ${f.name}`} onPress={() => { if (confirm(`Revoke the address “${f.name}”? Calendars that read it get nothing any more.`)) void revokeFeed(f.id); }}>Revoke</Button></td>
                </tr>
              ))}
            </tbody>
          </Plain>
        </Scroll>
      )}
      <details>
        <summary>Make an address</summary>
        <Form label="Make an address" act="Make it" onSend={async (f) => setFresh(await makeFeed(f('name'), owner === 'all' ? '' : owner))}>
          <Input label="What it is for" name="name" hint="Such as: the wall in the office" />
          <Pick label="Of" value={owner} options={[['all', 'everything'], ...(estate.data?.owners ?? []).map((o): [string, string] => [o, o])]} onChange={setOwner} />
        </Form>
      </details>
    </Part>
  );
}

function Tokens({ role }: { role: Role }) {
  const q = api.useQuery('get', '/tokens');
  const [scope, setScope] = useState<Role>('viewer');
  const [fresh, setFresh] = useState<Schemas['NewToken']>();
  const [says, setSays] = useState('');
  const own = roles.slice(0, roles.findIndex(([r]) => r === role) + 1);
  return (
    <Part aria-label="Tokens">
      <h2>Tokens, with which programs act for people</h2>
      {says && <p className="says" role="alert">{says}</p>}
      {fresh && <ShownOnce says={`The token “${fresh.token.name}”, shown this once. Programs read it from INSEGNA_TOKEN.`} text={fresh.secret} onClose={() => setFresh(undefined)} />}
      {q.isPending ? <Loading rows={2} /> : q.isError ? <Failure error={q.error} retry={() => void q.refetch()} /> : q.data.items.length === 0 ? <p>There is none yet.</p> : (
        <Scroll tabIndex={0} role="region" aria-label="List of tokens">
          <Plain>
            <thead><tr><th>Name</th><th>Person</th><th>Scope</th><th>Last used</th><th>Valid until</th><td /></tr></thead>
            <tbody>
              {q.data.items.map((t) => (
                <tr key={t.id}>
                  <td>{t.name}</td><td>{t.person}</td><td>{t.scope}</td><td className="n">{t.used_at ? moment(t.used_at) : 'never'}</td><td className="n">{moment(t.expires_at)}</td>
                  <td><Button aria-label={`Revoke ${t.name} of ${t.person}`} onPress={() => { if (confirm(`Revoke the token ${t.name} of ${t.person}? Whatever uses it stops working at once.`)) revokeToken(t.id).then(changed).catch((e: unknown) => setSays((e as Problem).detail ?? 'it did not work')); }}>Revoke</Button></td>
                </tr>
              ))}
            </tbody>
          </Plain>
        </Scroll>
      )}
      <details>
        <summary>Make a token</summary>
        <Form label="Make a token" act="Make it" onSend={async (f) => { setFresh(await makeToken(f('name'), scope, Number(f('days')))); await changed(); }}>
          <Input label="What it is for" name="name" hint="Such as: night report" />
          <Pick label="Scope" value={scope} options={own} onChange={(v) => setScope(v as Role)} />
          <Input label="Days it is valid" name="days" type="number" value="90" hint="At most 366" />
        </Form>
      </details>
    </Part>
  );
}

function People() {
  const q = api.useQuery('get', '/people');
  const may = useMay('admin');
  const [role, setRole] = useState<Role>('viewer');
  const [link, setLink] = useState<Schemas['Invitation']>();
  const [says, setSays] = useState('');
  const act = (call: Promise<unknown>) => call.then(() => { setSays(''); return changed(); }).catch((e: unknown) => setSays((e as Problem).detail ?? 'it did not work'));
  return (
    <Part aria-label="People">
      <h2>People</h2>
      {link && <ShownOnce says={`Give this link to ${link.name}. It works once, until ${moment(link.expires_at)}.`} text={`${location.origin}/set-up#${link.code}`} onClose={() => setLink(undefined)} />}
      {says && <p className="says" role="alert">{says}</p>}
      {q.isPending ? <Loading rows={3} /> : q.isError ? <Failure error={q.error} retry={() => void q.refetch()} /> : (
        <Scroll tabIndex={0} role="region" aria-label="List of people">
          <Plain>
            <thead><tr><th>Name</th><th>Role</th><th>Since</th><th>State</th>{may && <td />}</tr></thead>
            <tbody>
              {q.data.items.map((p) => (
                <tr key={p.name}>
                  <td>{p.name}</td>
                  <td>{may ? <Pick hidden label={`Role of ${p.name}`} value={p.role} options={roles} onChange={(v) => v !== p.role && void act(changePerson(p.name, v as Role))} /> : p.role}</td>
                  <td className="n">{moment(p.added_at)}</td>
                  <td>{p.set_up ? 'has a passphrase' : 'invited'}</td>
                  {may && (
                    <td className="n">
                      <Button aria-label={`New link for ${p.name}`} onPress={() => { if (!p.set_up || confirm(`A new link ends the sessions and tokens of ${p.name} at once. Make it?`)) void act(invitePerson(p.name).then(setLink)); }}>New link</Button>{' '}
                      <Button aria-label={`Remove ${p.name}`} onPress={() => { if (confirm(`End the access of ${p.name}, with sessions and tokens? The name stays in the journal and cannot be used again.`)) void act(removePerson(p.name)); }}>Remove</Button>
                    </td>
                  )}
                </tr>
              ))}
            </tbody>
          </Plain>
        </Scroll>
      )}
      {may && (
        <details>
          <summary>Add somebody</summary>
          <Form label="Add somebody" act="Add and show the link" onSend={async (f) => { setLink(await addPerson(f('name').trim(), role)); await changed(); }}>
            <Input label="Name" name="name" hint="Small letters, digits, dot, dash: it is typed at every sign-in" />
            <Pick label="Role" value={role} options={roles} onChange={(v) => setRole(v as Role)} />
          </Form>
        </details>
      )}
    </Part>
  );
}
