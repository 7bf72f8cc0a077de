import { createTagSchema, TAG_COLOURS, type Tag, type TagColour } from '@quay/contract';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form, Modal } from 'react-bootstrap';
import { Field, tellRefused, useSchemaForm } from '../../ui/form';
import { tagsQuery } from './queries';
import { useLabels } from './verbs';
import './tags.scss';

/** The tags of an item: a dot of the tag's colour with its name for those who point or listen. */
export function TagDots({ ids, tags }: { ids: string[]; tags: Tag[] }) {
  const mine = tags.filter((t) => ids.includes(t.id));
  if (mine.length === 0) return null;
  return (
    <span className="tag-dots">
      {mine.slice(0, 4).map((t) => (
        <span key={t.id} className={`tag-dot ${t.colour}`} role="img" aria-label={`Tag ${t.name}`} title={t.name} />
      ))}
    </span>
  );
}

export function TagChip({ tag }: { tag: Tag }) {
  return (
    <span className="tag-chip">
      <span className={`tag-dot ${tag.colour}`} aria-hidden /> {tag.name}
    </span>
  );
}

const COLOUR_NAMES: Record<TagColour, string> = {
  tide: 'teal',
  lamp: 'green',
  buoy: 'orange',
  flare: 'red',
  ink: 'dark',
  stone: 'grey',
};

/** Puts tags on items, takes them off, and makes new ones. */
export function TagDialog({
  items,
  close,
}: {
  items: { id: string; name: string; tags: string[] }[];
  close: () => void;
}) {
  const { data: tags = [] } = useQuery(tagsQuery);
  const { tag } = useLabels();
  // What was there when the dialog opened, and what has been changed since.
  const [changed, setChanged] = useState<Record<string, boolean>>({});
  const has = (t: Tag) => changed[t.id] ?? items.every((i) => i.tags.includes(t.id));
  const set = (t: Tag, on: boolean) => {
    setChanged({ ...changed, [t.id]: on });
    tag.mutate({ items, tagId: t.id, on });
  };
  return (
    <Modal show onHide={close} aria-labelledby="tags-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="tags-title">
          Tags of {items.length === 1 ? items[0]?.name : `${items.length} items`}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {tags.length === 0 && <p className="quiet">There are no tags yet. Make the first one.</p>}
        {tags.map((t) => (
          <Form.Check
            key={t.id}
            id={`tag-${t.id}`}
            label={<TagChip tag={t} />}
            checked={has(t)}
            onChange={(e) => set(t, e.target.checked)}
          />
        ))}
        <NewTag made={(t) => set(t, true)} />
      </Modal.Body>
    </Modal>
  );
}

function NewTag({ made }: { made: (tag: Tag) => void }) {
  const { createTag } = useLabels();
  const form = useSchemaForm<Omit<Tag, 'id'>>(createTagSchema, { name: '', colour: 'tide' });
  const colour = form.watch('colour');
  const submit = form.handleSubmit(async (asked) => {
    try {
      made(await createTag.mutateAsync(asked));
      form.reset({ name: '', colour });
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <Form className="tag-new" noValidate onSubmit={(e) => void submit(e)}>
      <Field
        {...{ form, name: 'name', id: 'tag-name', label: 'Name of a new tag', hiddenLabel: true }}
        {...{ size: 'sm', placeholder: 'New tag', maxLength: 40 }}
      />
      <div role="radiogroup" aria-label="Colour" className="colours">
        {TAG_COLOURS.map((c) => (
          <button
            key={c}
            type="button"
            role="radio"
            aria-checked={c === colour}
            aria-label={COLOUR_NAMES[c]}
            className={`tag-dot large ${c}`}
            onClick={() => form.setValue('colour', c)}
          />
        ))}
      </div>
      <Button type="submit" size="sm" variant="plain" disabled={!form.watch('name').trim()}>
        Make
      </Button>
    </Form>
  );
}
