import { useState } from 'react';
import * as Aria from 'react-aria-components';
import styled from 'styled-components';
import { chosen, pasted, type Chosen } from '../data/ways';
import { color, font, radius, space } from '../theme/tokens';
import { Button } from './Controls';

const Zone = styled(Aria.DropZone)`
  display: grid; gap: ${space(2)}; border: 1px dashed ${color.soft}; border-radius: ${radius}; background: ${color.raised}; padding: ${space(4)};
  &[data-drop-target] { border-color: ${color.cobalt}; border-style: solid; }
  textarea { font: 14px/1.4 ${font.mono}; color: ${color.ink}; background: ${color.ground}; border: 1px solid ${color.soft}; border-radius: ${radius}; padding: ${space(2)}; width: 100%; }
  label { font: 600 15px ${font.text}; display: grid; gap: ${space(1)}; } p { margin: 0; overflow-wrap: anywhere; }
`;

/** Files that are chosen, dropped or pasted. What is sent is read when it is sent. */
export function FilesField({ label, onChange }: { label: string; onChange: (read: () => Promise<Chosen[]>) => void }) {
  const [files, setFiles] = useState<File[]>([]);
  const [text, setText] = useState('');
  const tell = (list: File[], typed: string) => { setFiles(list); setText(typed); onChange(async () => [...await chosen(list), ...pasted(typed)]); };
  const dropped = async (items: Aria.DropItem[]) => tell(await Promise.all(items.filter(Aria.isFileDropItem).map((i) => i.getFile())), text);
  return (
    <Zone aria-label={`${label}: drop files here`} onDrop={(e) => void dropped(e.items)}>
      <p>{files.length === 0 ? 'Drop files here, choose them, or paste below.' : files.map((f) => f.name).join(', ')}</p>
      <Aria.FileTrigger allowsMultiple onSelect={(list) => tell([...(list ?? [])], text)}><Button>Choose files</Button></Aria.FileTrigger>
      <label>{label}, pasted<textarea rows={3} spellCheck="false" value={text} onChange={(e) => tell(files, e.target.value)} /></label>
    </Zone>
  );
}
