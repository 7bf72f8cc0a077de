import type { FindAnswer, FolderHead } from '@quay/contract';
import { useEffect, useRef, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { api } from '../../ui/api';
import { tellFailure } from '../../ui/notices';
import { useDropTarget, type Dragged } from './drag';

/** The path of a folder: each part leads there and takes what is dropped on it. Very deep paths show both ends. */
export function PathLine({
  folder,
  label,
  go,
  drop,
}: {
  folder: FolderHead;
  label: string;
  go: (id: string) => void;
  drop?: (dragged: Dragged, copy: boolean, part: { id: string; name: string }) => void;
}) {
  const [typing, setTyping] = useState(false);
  const parts = folder.path.length > 7 ? [...folder.path.slice(0, 2), null, ...folder.path.slice(-3)] : folder.path;
  if (typing) return <PathField folder={folder} go={go} end={() => setTyping(false)} />;
  return (
    <nav className="path" aria-label={label} onDoubleClick={() => setTyping(true)} title="Double click to type a path">
      <i className="bi bi-hdd-stack" aria-hidden />
      <Link to="/stores">Stores</Link>
      {parts.map((part, i) =>
        part === null ? (
          <span key="gap" className="quiet">
            / ... {folder.path.length - 5} more ...
          </span>
        ) : (
          <span key={part.id} className="d-contents">
            <span className="quiet">/ </span>
            {i === parts.length - 1 ? (
              <span aria-current="page">{part.name}</span>
            ) : (
              <Part part={part} go={go} drop={drop} />
            )}
          </span>
        ),
      )}
      <button type="button" className="type-path" aria-label="Type a path" onClick={() => setTyping(true)}>
        <i className="bi bi-pencil" aria-hidden />
      </button>
    </nav>
  );
}

function Part({
  part,
  go,
  drop,
}: {
  part: { id: string; name: string };
  go: (id: string) => void;
  drop?: (dragged: Dragged, copy: boolean, part: { id: string; name: string }) => void;
}) {
  const target = useDropTarget((dragged, copy) => drop?.(dragged, copy, part));
  return (
    <Link
      to={`/stores/${part.id}`}
      className={target.over ? 'drop' : undefined}
      {...(drop && target.props)}
      onClick={(e) => {
        e.preventDefault();
        go(part.id);
      }}
    >
      {part.name}
    </Link>
  );
}

/** A path that is typed: "Projects / 2026 / Mill Lane", in any case. */
function PathField({ folder, go, end }: { folder: FolderHead; go: (id: string) => void; end: () => void }) {
  const field = useRef<HTMLInputElement>(null);
  const navigate = useNavigate();
  const [text, setText] = useState(folder.path.map((p) => p.name).join(' / '));
  useEffect(() => field.current?.select(), []);
  const follow = async () => {
    const wanted = text
      .split('/')
      .map((p) => p.trim().toLowerCase())
      .filter(Boolean);
    if (wanted.length === 0) return void navigate('/stores');
    const { items } = await api<FindAnswer>(
      'GET',
      `/api/find?kind=folder&text=${encodeURIComponent(wanted.at(-1) ?? '')}`,
    );
    const found = items.find(
      (i) => [...i.path.map((p) => p.name), i.name].map((n) => n.toLowerCase()).join('/') === wanted.join('/'),
    );
    if (found) go(found.id);
    else if (wanted.length === 1 && folder.path[0] && folder.path[0].name.toLowerCase() === wanted[0])
      go(folder.path[0].id);
    else tellFailure(new Error(`There is no folder "${text}", or you may not see it.`));
  };
  return (
    <form
      className="path typing"
      onSubmit={(e) => {
        e.preventDefault();
        void follow().catch(tellFailure).finally(end);
      }}
    >
      <input
        ref={field}
        aria-label="Path"
        value={text}
        onChange={(e) => setText(e.target.value)}
        onBlur={end}
        onKeyDown={(e) => e.key === 'Escape' && end()}
      />
    </form>
  );
}
