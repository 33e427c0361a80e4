import { Link, useParams, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { api, type Problem } from '../data/client';
import { plural } from '../data/format';
import { useWithout } from '../data/foresee';
import { Pick, Plain, Scroll } from '../parts/Controls';
import { Empty, Failure, Loading } from '../parts/States';
import { space } from '../theme/tokens';

const Told = styled.p`max-width: 76ch; margin: ${space(3)} 0 ${space(4)};`;

const Part = styled.section`margin-top: ${space(6)}; td { overflow-wrap: anywhere; } ul { margin: 0; padding-left: ${space(4)}; }`;

/** Which hosts break for whom without a root or an intermediate, before it happens. */
export function Without() {
  const { sha256 = '' } = useParams();
  const [params, setParams] = useSearchParams();
  const audience = params.get('audience') ?? '';
  const q = useWithout(sha256, audience);
  const estate = api.useQuery('get', '/certificates/{sha256}', { params: { path: { sha256 } } });
  if (q.isPending) return <Loading />;
  if (q.isError) return (q.error as Problem).status === 404 || (q.error as Problem).status === 409 ? <Empty page title="That cannot be said"><p>{(q.error as Problem).detail}. <Link to={`/certificates/${sha256}`}>Back to the certificate</Link>.</p></Empty> : <Failure error={q.error} retry={() => void q.refetch()} />;
  const w = q.data;
  const bindings = w.items.reduce((n, b) => n + b.bindings, 0);
  const helped = w.items.filter((b) => b.helps.length > 0).length;
  const audiences = [...new Set([...(estate.data?.audiences.map((v) => v.audience) ?? []), ...(audience ? [audience] : [])])];
  const set = (v: string) => setParams((p) => { if (v) p.set('audience', v); else p.delete('audience'); return p; }, { replace: true });
  return (
    <>
      <h1>{w.items.length === 0 ? `Nothing breaks without ${w.name}` : `Without ${w.name}, ${plural(bindings, 'binding')} ${bindings === 1 ? 'breaks' : 'break'}`}{audience && ` for ${audience}`}</h1>
      <Told>{plural(w.looked, 'binding')} held against it{w.unread > 0 && `, of which ${w.unread} could not be read`}. {helped > 0 && 'Where certificates that are known and sent along keep a chain whole, that is said. '}<Link to={`/certificates/${w.certificate}`}>The certificate itself</Link>.</Told>
      {audiences.length > 0 && <Pick label="Gone" value={audience} options={[['', 'for all'], ...audiences.map((a): [string, string] => [a, `for ${a} alone, which drops it`])]} onChange={set} />}
      {w.items.length > 0 && (
        <Part aria-label="What breaks">
          <Scroll tabIndex={0} role="region" aria-label="List of what breaks">
            <Plain>
              <thead><tr><th>Hosts</th><th>For whom</th><th>Issued by</th><th>Why</th><th>What helps</th></tr></thead>
              <tbody>{w.items.map((b) => (
                <tr key={`${b.audience} ${b.issuer} ${b.hosts[0]} ${b.mandate}`}>
                  <td>{b.hosts.slice(0, 5).join(', ')}{b.hosts.length > 5 && `, and ${b.hosts.length - 5} more`}{b.mandate && <><br />of <Link to={`/mandates/${b.mandate}`}>{b.mandate}</Link></>}</td><td className="n">{b.audience}</td><td>{b.issuer}</td><td>{b.why}</td>
                  <td>{b.helps.length > 0 ? `sent along: ${b.helps.join(', ')}` : 'nothing that is known'}</td>
                </tr>
              ))}</tbody>
            </Plain>
          </Scroll>
        </Part>
      )}
    </>
  );
}
