import { Link, useParams } from 'react-router';
import styled from 'styled-components';
import { api, type Schemas } from '../data/client';
import { day, download, left, moment, plural } from '../data/format';
import { ChainPicture } from '../parts/ChainPicture';
import { Bar, Button, Plain, Scroll } from '../parts/Controls';
import { DateBar } from '../parts/DateBar';
import { FindingList } from '../parts/FindingCard';
import { Spot } from '../parts/Spot';
import { Empty, Failure, Loading } from '../parts/States';
import { color, font, narrow, space } from '../theme/tokens';

const Page = styled.div`
  h1 { overflow-wrap: anywhere; } section, .bar { margin-top: ${space(6)}; }
  .lead { font-size: 18px; margin: ${space(2)} 0 ${space(4)}; }
  dl { display: grid; grid-template-columns: 130px minmax(0, 1fr); gap: ${space(1)} ${space(4)}; margin: 0; }
  dt { color: ${color.soft}; } dd { margin: 0; overflow-wrap: anywhere; } dd.mono { font-family: ${font.mono}; font-size: 14px; }
  .names { display: flex; flex-wrap: wrap; gap: ${space(1)} ${space(2)}; list-style: none; margin: 0; padding: 0; }
  .names li { border: 1px solid ${color.line}; background: ${color.raised}; padding: 0 ${space(2)}; overflow-wrap: anywhere; }
  .two { display: grid; grid-template-columns: repeat(2, minmax(0, 1fr)); gap: ${space(6)}; } ${narrow} { .two { grid-template-columns: minmax(0, 1fr); } dl { grid-template-columns: 90px minmax(0, 1fr); } }
`;

export function CertificatePage() {
  const { sha256 = '' } = useParams();
  const q = api.useQuery('get', '/certificates/{sha256}', { params: { path: { sha256 } } });
  if (q.isPending) return <Loading />;
  if (q.isError) {
    if (q.error.status === 404) {
      return <Empty page title="No such certificate"><p>It was never met, or the address is cut short. <Link to="/certificates">See all certificates</Link>.</p></Empty>;
    }
    return <Failure error={q.error} retry={() => void q.refetch()} />;
  }
  return <Detail d={q.data} />;
}

function Detail({ d }: { d: Schemas['CertificateDetail'] }) {
  const c = d.certificate;
  const file = `${(c.names[0] ?? c.common_name).replaceAll(/[^a-zA-Z0-9.-]/g, '_')}.pem`;
  return (
    <Page>
      <h1>{c.common_name}</h1>
      <p className="lead">
        From {c.issuer}, {c.days_left < 0 ? left(c.days_left) : `${left(c.days_left)} left`}, served at {plural(c.bindings, 'binding')} now.
      </p>
      <DateBar from={c.not_before} until={c.not_after} daysLeft={c.days_left} />
      <div className="two">
        <section aria-label="Who">
          <h2>Who</h2>
          <dl>
            <dt>subject</dt><dd>{d.subject || 'empty'}</dd><dt>issuer</dt><dd>{d.issuer_name}</dd><dt>key</dt><dd>{c.key}</dd>
            {d.rhythm && <><dt>rhythm</dt><dd>those before were replaced {d.rhythm.days_before} days before the end of one like this, {plural(d.rhythm.times, 'time')}, last by {d.rhythm.issuer}; key: {d.rhythm.key}</dd></>}
            <dt>signature</dt><dd>{d.signature}</dd><dt>serial</dt><dd className="mono">{c.serial}</dd><dt>SHA-256</dt><dd className="mono">{c.sha256}</dd>
            <dt>valid</dt><dd>{moment(c.not_before)} to {moment(c.not_after)} ({day(c.not_after)})</dd><dt>first seen</dt><dd>{moment(c.first_seen)}</dd>
          </dl>
        </section>
        <section aria-label="Names">
          <h2>{plural(c.names.length, 'name')}</h2>
          {c.names.length === 0 ? <p>None: it is no certificate for a host.</p> : <ul className="names">{c.names.map((n) => <li key={n}>{n}</li>)}</ul>}
        </section>
      </div>
      <section aria-label="Chain">
        <h2>Chain</h2>
        {d.audiences.length === 0 && <p>No audience is declared to judge it by.</p>}
        {d.audiences.map((v) => <div key={v.audience}><ChainPicture view={v} /><br /></div>)}
      </section>
      {d.findings.length > 0 && <section aria-label="Findings"><h2>Findings</h2><FindingList items={d.findings} /></section>}
      <Files list={d.files} />
      <Places list={d.sightings} />
      <Bar className="bar"><Button onPress={() => download(file, 'application/x-pem-file', d.pem)}>Save as PEM</Button>{c.is_ca && <Link to={`/certificates/${c.sha256}/without`}>What breaks without it</Link>}</Bar>
    </Page>
  );
}

function Files({ list }: { list: Schemas['Placement'][] }) {
  if (list.length === 0) return null;
  return (
    <section aria-label="Where it lies">
      <h2>Where it lies</h2>
      <Scroll tabIndex={0} role="region" aria-label="Files">
        <Plain>
          <thead><tr><th>Server</th><th>File</th><th>Site</th><th>Named at</th></tr></thead>
          <tbody>
            {list.map((f) => (
              <tr key={f.server + f.path + f.spot}>
                <td><Link to={`/servers/${encodeURIComponent(f.server)}`}>{f.server}</Link></td><td><code>{f.path}</code></td><td>{f.site}</td>
                <td>{f.spot ? <Spot server={f.server} spot={f.spot} /> : <em>no site names it</em>}</td>
              </tr>
            ))}
          </tbody>
        </Plain>
      </Scroll>
    </section>
  );
}

function Places({ list }: { list: Schemas['Sighting'][] }) {
  return (
    <section aria-label="Where it is used">
      <h2>Where it was seen</h2>
      {list.length === 0 ? <p>Nowhere yet.</p> : (
        <Scroll tabIndex={0} role="region" aria-label="Sightings">
          <Plain>
            <thead><tr><th>Host</th><th>Server</th><th>Endpoint</th><th>Protocol</th><th>First seen</th><th>Last seen</th><th>Now</th></tr></thead>
            <tbody>
              {list.map((s, i) => (
                <tr key={i}>
                  <td>{s.host || <em>without SNI</em>}</td><td>{s.server}</td><td className="n"><code>{s.endpoint}</code></td><td className="n">{s.protocol}</td>
                  <td className="n">{moment(s.first_seen)}</td><td className="n">{moment(s.last_seen)}</td><td>{s.current ? 'yes' : 'no'}</td>
                </tr>
              ))}
            </tbody>
          </Plain>
        </Scroll>
      )}
    </section>
  );
}
