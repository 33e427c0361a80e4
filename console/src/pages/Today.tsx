import { Link } from 'react-router';
import styled from 'styled-components';
import { api, type Finding, type Schemas } from '../data/client';
import { ago, ahead, plural } from '../data/format';
import { useLooked } from '../data/looked';
import { useRunningSurvey } from '../data/surveys';
import { called, standing as installed } from '../data/installations';
import { Bar, Progress } from '../parts/Controls';
import { FirstEstate } from './Estate';
import { FindingList, titles } from '../parts/FindingCard';
import { MendButton } from '../parts/MendButton';
import { Empty, Failure, Loading } from '../parts/States';
import { SurveyButton } from '../parts/SurveyButton';
import { TimeLine } from '../parts/TimeLine';
import { color, font, narrow, space } from '../theme/tokens';

const Sentence = styled.h1`
  font-size: 31px; font-weight: 400; a { text-decoration: none; } a:hover { text-decoration: underline; }
  .broken { color: ${color.oxide}; font-weight: 800; } .due { color: ${color.brass}; font-weight: 800; } .plain { color: ${color.ink}; }
  ${narrow} { font-size: 24px; }
`;

const Columns = styled.div`
  display: grid; grid-template-columns: minmax(0, 2.3fr) minmax(220px, 1fr); gap: ${space(7)};
  ${narrow} { grid-template-columns: minmax(0, 1fr); }
`;

const Aside = styled.aside`
  h2 { color: ${color.soft}; }
  li { padding: ${space(2)} 0; border-bottom: 1px solid ${color.line}; } ul { list-style: none; margin: 0 0 ${space(4)}; padding: 0; }
  .when { font-family: ${font.mono}; font-size: 14px; color: ${color.soft}; display: block; }
`;

export function Today() {
  const since = useLooked();
  const today = api.useQuery('get', '/today', since ? { params: { query: { since } } } : {});
  if (today.isPending) return <Loading />;
  if (today.isError) return <Failure error={today.error} retry={() => void today.refetch()} />;
  const t = today.data;
  if (!t.estate) return <FirstEstate />;
  return (
    <>
      <How today={t} />
      {t.lanes.length > 0 && <TimeLine today={t} />}
      {!t.survey && <FirstLook />}
      <Columns>
        <div>
          {t.worst.some((f) => f.mending.can) && <Bar><MendButton which={{}}>Mend what mends itself</MendButton></Bar>}
          {titles.map(([severity, title]) => <Part key={severity} title={title} items={t.worst.filter((f) => f.severity === severity)} />)}
        </div>
        <Beside today={t} />
      </Columns>
    </>
  );
}

type TodayData = Schemas['Today'];

function How({ today: { bindings: b, due_bindings: due, stale } }: { today: TodayData }) {
  return (
    <Sentence>
      <Link className={b.broken ? 'broken' : 'plain'} to="/bindings?verdict=broken">{b.broken ? `${plural(b.broken, 'binding')} ${b.broken === 1 ? 'is' : 'are'} broken` : 'Nothing is broken'}</Link>
      {due > 0 && <>, <span className="due">{due === 1 ? '1 needs you by a known date' : `${due} need you by a known date`}</span></>}
      {b.unknown > 0 && stale === 0 && <>, {b.unknown} not read yet</>}
      {stale > 0 && <>, <Link className="broken" to="/surveys">{stale} not looked at of late</Link></>}
      , <Link className="plain" to="/bindings?verdict=agreed">{b.agreed} {b.agreed === 1 ? 'agrees' : 'agree'}</Link>.
    </Sentence>
  );
}

function FirstLook() {
  return (
    <Empty title="Nothing has been looked at yet">
      <p>The estate is declared; a survey goes to every endpoint and brings back what is served.</p>
      <p><SurveyButton main>Start a survey</SurveyButton></p>
    </Empty>
  );
}

function Part({ title, items }: { title: string; items: Finding[] }) {
  if (items.length === 0) return null;
  return (
    <section aria-label={title}>
      <h2>{title}</h2>
      <FindingList items={items} />
    </section>
  );
}

/** What happened, in words. */
function happened(s: Schemas['Since']) {
  const parts = [s.opened > 0 && <Link key="opened" to="/findings">{plural(s.opened, 'finding')} opened</Link>, s.closed > 0 && <Link key="closed" to="/findings?state=closed">{s.closed} closed</Link>,
    s.issued > 0 && <span key="issued">{plural(s.issued, 'certificate')} issued</span>, s.installed > 0 && <span key="installed">{s.installed} installed or mended</span>, s.failed > 0 && <span key="failed">{s.failed} failed</span>].filter(Boolean);
  return parts.length === 0 ? 'Nothing happened.' : parts.map((p, i) => [i > 0 && ', ', p]);
}

function Beside({ today: t }: { today: TodayData }) {
  const running = useRunningSurvey();
  const last = t.survey;
  return (
    <Aside aria-label="Surveys">
      {t.since && <><h2>Since you last looked</h2><ul><li><span className="when">{ago(t.since.at)}</span>{happened(t.since)}</li></ul></>}
      <h2>Last looked</h2>
      <ul>
        {running && <li><Progress label="Looking" value={running.done} of={running.targets} /></li>}
        {last && (
          <li>
            <span className="when">{ago(last.created_at)}, from {last.vantage}</span>
            <Link to={`/surveys/${last.id}`}>Survey {last.id}</Link>, {last.scope}: {plural(last.targets, 'look')}, {plural(last.changed, 'change')}, {plural(last.opened, 'finding')} opened, {last.closed} closed
          </li>
        )}
        <li><span className="when">{t.next_survey ? ahead(t.next_survey) : 'not by itself'}</span><Link to="/surveys">The next</Link>{t.next_survey && ', by itself'}</li>
        <li><Link to="/findings">{plural(t.findings.broken + t.findings.due + t.findings.weak + t.findings.note, 'finding')}</Link>{t.findings.accepted > 0 && <>, and <Link to="/findings?state=accepted">{t.findings.accepted} accepted</Link></>}</li>
        <li><a href="/api/v1/report?format=html" target="_blank" rel="noreferrer">Report of the estate today</a>, to print or keep</li>
        <li><Link to="/estate">{plural(t.bindings.hosts, 'host')} on {plural(t.bindings.servers, 'server')}</Link>, {plural(t.in_use, 'certificate')} in use</li>
      </ul>
      {t.ordered.length > 0 && <h2>Ordered by itself, or failed</h2>}
      {t.ordered.length > 0 && (
        <ul>
          {t.ordered.map((o) => (
            <li key={o.number}>
              <span className="when">{ago(o.finished_at ?? o.begun_at)}</span>
              <Link to={`/mandates/${o.mandate}?order=${o.number}`}>{o.mandate}</Link>: {o.failure ? `order ${o.number} failed, ${o.failure.kind}` : 'a new certificate'}
            </li>
          ))}
        </ul>
      )}
      {t.installed.length > 0 && <h2>Installed by itself, or to look at</h2>}
      {t.installed.length > 0 && (
        <ul>
          {t.installed.map((v) => (
            <li key={v.number}>
              <span className="when">{ago(v.finished_at ?? v.previewed_at)}</span>
              <Link to={`/installations/${v.number}`}>{called(v)} on {v.server}</Link>: {installed(v)[1]}
            </li>
          ))}
        </ul>
      )}
      {!running && last && <SurveyButton main>Survey the estate now</SurveyButton>}
    </Aside>
  );
}
