import { Link, useParams, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { api, type Schemas } from '../data/client';
import { moment, plural } from '../data/format';
import { useRunningSurvey } from '../data/surveys';
import { Bar, Pick, Plain, Progress, Scroll } from '../parts/Controls';
import { FindingList } from '../parts/FindingCard';
import { Empty, Failure, Loading } from '../parts/States';
import { space } from '../theme/tokens';

const Part = styled.section`margin-top: ${space(6)};`;

export function SurveyPage() {
  const id = Number(useParams().id);
  const known = Number.isInteger(id) && id > 0;
  const survey = api.useQuery('get', '/surveys/{id}', { params: { path: { id } } }, { enabled: known });
  const running = useRunningSurvey();
  if (!known || survey.error?.status === 404) return <Empty page title="No such survey"><p><Link to="/surveys">See all surveys</Link>.</p></Empty>;
  if (survey.isPending) return <Loading />;
  if (survey.isError) return <Failure error={survey.error} retry={() => void survey.refetch()} />;
  const s = running?.id === id ? running : survey.data;
  return (
    <>
      <h1>Survey {s.id}: {s.connected} of {s.targets} answered with a certificate</h1>
      <p>{s.scope}, from {s.vantage}, begun {moment(s.created_at)}{s.finished_at ? `, finished ${moment(s.finished_at)}` : ''}</p>
      {s.state === 'running' ? <Bar><Progress label="Looking" value={s.done} of={s.targets} /></Bar> : <Changes id={id} />}
    </>
  );
}

function Changes({ id }: { id: number }) {
  const [params, setParams] = useSearchParams();
  const since = params.get('since');
  const surveys = api.useQuery('get', '/surveys', { params: { query: { limit: 1000 } } });
  const q = api.useQuery('get', '/surveys/{id}/changes', { params: { path: { id }, query: since ? { since: Number(since) } : {} } });
  if (q.isPending) return <Loading />;
  if (q.isError) return <Failure error={q.error} retry={() => void q.refetch()} />;
  const d = q.data;
  const earlier = (surveys.data?.items ?? []).filter((s) => s.id < id).map((s): [string, string] => [String(s.id), `survey ${s.id}, ${moment(s.created_at)}`]);
  return (
    <>
      <Bar>
        <Pick label="Compared with" value={String(d.since)} options={[...earlier, ['0', 'the beginning']]} onChange={(v) => setParams({ since: v }, { replace: true })} />
        <span>{plural(d.changes.length, 'change')}, {plural(d.opened.length, 'finding')} opened, {d.closed.length} closed{d.clipped ? ', the first shown' : ''}</span>
      </Bar>
      {d.changes.length + d.opened.length + d.closed.length === 0 && <Empty title="Nothing changed"><p>Every target showed what it showed before.</p></Empty>}
      {d.changes.length > 0 && <ChangeTable list={d.changes} />}
      {d.opened.length > 0 && <Part><h2>Opened</h2><FindingList items={d.opened} /></Part>}
      {d.closed.length > 0 && <Part><h2>Closed</h2><FindingList items={d.closed} /></Part>}
    </>
  );
}

function ChangeTable({ list }: { list: Schemas['SurveyChange'][] }) {
  return (
    <Part>
      <h2>Changes</h2>
      <Scroll tabIndex={0} role="region" aria-label="Changes">
        <Plain>
          <thead><tr><th>Host</th><th>At</th><th>Before</th><th>After</th></tr></thead>
          <tbody>
            {list.map((c, i) => (
              <tr key={i}>
                <td>{c.host || <em>without SNI</em>}</td><td className="n">{c.server}<br /><code>{c.endpoint}</code></td>
                <td><Shown text={c.before} sha256={c.certificate_before} /></td><td><Shown text={c.after} sha256={c.certificate_after} /></td>
              </tr>
            ))}
          </tbody>
        </Plain>
      </Scroll>
    </Part>
  );
}

function Shown({ text, sha256 }: { text: string; sha256?: string | undefined }) {
  return sha256 ? <Link to={`/certificates/${sha256}`}>{text}</Link> : <>{text}</>;
}
