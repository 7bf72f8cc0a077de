import type { NodeItem } from '@quay/contract';
import { useCallback, useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { useSearch } from '../../ui/search';
import { Details } from './details';
import { Pane } from './pane';
import { useLooks } from './store';
import { Viewer } from './viewer';
import './folder.scss';

/** A folder of a store, alone or beside another, with details and the viewer. All of it is in the address. */
export function Folder() {
  const { folderId = '' } = useParams();
  const [search, changeAddress] = useSearch();
  const navigate = useNavigate();
  const besideId = search.get('beside');
  const [active, setActive] = useState<'main' | 'beside'>('main');
  const [focused, setFocused] = useState<{ main: NodeItem | null; beside: NodeItem | null }>({
    main: null,
    beside: null,
  });
  const [viewed, setViewed] = useState<NodeItem[]>([]);
  const { details, change } = useLooks();
  const set = (name: string, value: string | null) => changeAddress({ [name]: value }, { replace: name === 'show' });
  const view = (item: NodeItem, items: NodeItem[]) => {
    setViewed(items.filter((i) => i.kind === 'file'));
    set('show', item.id);
  };
  const focusMain = useCallback((item: NodeItem | null) => setFocused((f) => ({ ...f, main: item })), []);
  const focusBeside = useCallback((item: NodeItem | null) => setFocused((f) => ({ ...f, beside: item })), []);
  const showId = search.get('show');
  const about = focused[besideId ? active : 'main'];
  return (
    <div className={`folder-layout${besideId ? ' two' : ''}${details ? ' with-details' : ''}`}>
      {/* A folder of its own each time: selection and dialogs do not move along. */}
      <Pane
        key={folderId}
        folderId={folderId}
        active={!showId && (!besideId || active === 'main')}
        activate={() => setActive('main')}
        go={(id) => void navigate(`/stores/${id}${besideId ? `?beside=${besideId}` : ''}`)}
        onFocus={focusMain}
        view={view}
        beside={{ open: besideId !== null, toggle: () => set('beside', besideId ? null : folderId) }}
      />
      {besideId && (
        <Pane
          key={`beside ${besideId}`}
          folderId={besideId}
          active={!showId && active === 'beside'}
          activate={() => setActive('beside')}
          go={(id) => set('beside', id)}
          onFocus={focusBeside}
          view={view}
        />
      )}
      {details && (
        <Details
          item={about}
          folderId={besideId && active === 'beside' ? besideId : folderId}
          close={() => change({ details: false })}
          view={(item) => view(item, [item])}
        />
      )}
      {showId && <Viewer id={showId} items={viewed} go={(id) => set('show', id)} close={() => set('show', null)} />}
    </div>
  );
}
