import { Link } from 'react-router';
import { api } from '../data/client';
import { moment, plural } from '../data/format';
import { useRunningSurvey } from '../data/surveys';
import { Bar, Plain, Progress, Scroll } from '../parts/Controls';
import { Schedule } from '../parts/Schedule';
import { Empty, Failure, Loading } from '../parts/States';
import { SurveyButton } from '../parts/SurveyButton';

export function Surveys() {
  const list = api.useQuery('get', '/surveys', { params: { query: { limit: 100 } } });
  const running = useRunningSurvey();
  if (list.isPending) return <Loading />;
  if (list.isError) return <Failure error={list.error} retry={() => void list.refetch()} />;
  const items = list.data.items;
  return (
    <>
      <h1>{items.length === 0 ? 'No survey yet' : `${plural(items.length, 'survey')}${list.data.next_cursor ? ', the newest' : ''}`}</h1>
      <Bar>
        {running ? <Progress label={`Survey ${running.id}:`} value={running.done} of={running.targets} />
          : <SurveyButton main>Survey the estate now</SurveyButton>}
      </Bar>
      <Schedule />
      {items.length === 0 ? <Empty title="Nothing has been looked at"><p>A survey goes to every endpoint of the estate and brings back what is served. The same from the command line: <code>insegna survey start</code></p></Empty> : (
        <Scroll tabIndex={0} role="region" aria-label="Surveys">
          <Plain>
            <thead><tr><th>Survey</th><th>Begun</th><th>Scope</th><th>By</th><th>From</th><th>State</th><th>Looked</th><th>Answered</th><th>Changed</th><th>Opened</th><th>Closed</th></tr></thead>
            <tbody>
              {items.map((s) => (
                <tr key={s.id}>
                  <td><Link to={`/surveys/${s.id}`}>Survey {s.id}</Link></td><td className="n">{moment(s.created_at)}</td><td>{s.scope}{s.missed > 0 && <small> makes up for {s.missed} that did not come</small>}</td><td>{s.begun_by}</td><td>{s.vantage}</td>
                  <td>{running?.id === s.id ? running.state : s.state}</td><td>{running?.id === s.id ? running.done : s.done} of {s.targets}</td><td>{s.connected}</td><td>{s.changed}</td><td>{s.opened}</td><td>{s.closed}</td>
                </tr>
              ))}
            </tbody>
          </Plain>
        </Scroll>
      )}
    </>
  );
}
