import { renameSchema, type RenameNode } from '@quay/contract';
import { Button, Form, Modal } from 'react-bootstrap';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';

interface NameProps {
  title: string;
  initial: string;
  verb: string;
  save: (name: string) => Promise<unknown>;
  close: () => void;
}

/** Asks for a name, judged by the core's rule while it is typed. */
export function NameDialog({ title, initial, verb, save, close }: NameProps) {
  const form = useSchemaForm<RenameNode>(renameSchema, { name: initial }, undefined, 'onChange');
  const name = form.watch('name');
  const submit = form.handleSubmit(async (asked) => {
    try {
      await save(asked.name);
      close();
    } catch (error) {
      tellRefused(form, error);
    }
  });
  const stem = initial.lastIndexOf('.') > 0 ? initial.lastIndexOf('.') : initial.length;
  return (
    <Modal show onHide={close} aria-labelledby="name-title" restoreFocus>
      <Form noValidate onSubmit={(e) => void submit(e)}>
        <Modal.Header closeButton>
          <Modal.Title as="h2" className="h5" id="name-title">
            {title}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <Field
            {...{ form, name: 'name', id: 'item-name', label: 'Name', hiddenLabel: true, autoFocus: true }}
            onFocus={(e) => (e.target as HTMLInputElement).setSelectionRange(0, stem)}
          />
          <FormFault form={form} />
        </Modal.Body>
        <Modal.Footer>
          <Button variant="plain" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={name === '' || form.formState.isSubmitting}>
            {verb}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  );
}
