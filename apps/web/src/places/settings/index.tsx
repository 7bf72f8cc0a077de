import { NavLink, Navigate, useParams } from 'react-router';
import { useMe } from '../../ui/session';
import { AboutThis } from './about';
import { BackupSettings } from './backups';
import { HealthSettings } from './health';
import './index.scss';
import { MailSettingsForm } from './mail';
import { OfficeSettingsForm } from './office';
import { ProviderSettingsForm } from './provider';
import { SecuritySettingsForm } from './security';
import { ShareSettings } from './shares';
import { StoreSettingsList } from './stores';
import { TextMessagesForm } from './text-messages';

const SUBJECTS = {
  office: { title: 'Office', Part: OfficeSettingsForm },
  stores: { title: 'Stores', Part: StoreSettingsList },
  shares: { title: 'Shares', Part: ShareSettings },
  mail: { title: 'Mail', Part: MailSettingsForm },
  texts: { title: 'Text messages', Part: TextMessagesForm },
  security: { title: 'Security', Part: SecuritySettingsForm },
  provider: { title: 'Identity provider', Part: ProviderSettingsForm },
  backups: { title: 'Backups', Part: BackupSettings },
  health: { title: 'Health', Part: HealthSettings },
  about: { title: 'About', Part: AboutThis },
} as const;

/** What whoever runs the server decides: a list of subjects, one at a time. */
export function Settings() {
  const me = useMe();
  const { subject = '' } = useParams();
  const shown = Object.entries(SUBJECTS).find(([key]) => key === subject)?.[1];
  if (!me.duties.includes('run-server')) return <Navigate to="/account" replace />;
  if (!shown) return <Navigate to="/settings/office" replace />;
  const { title, Part } = shown;
  return (
    <>
      <div className="title-line">
        <h1>
          Settings. <span className="quiet">{title}</span>
        </h1>
      </div>
      <div className="settings">
        <nav aria-label="Subjects">
          {Object.entries(SUBJECTS).map(([key, { title: name }]) => (
            <NavLink key={key} to={`/settings/${key}`}>
              {name}
            </NavLink>
          ))}
          <NavLink to="/work">What it does by itself</NavLink>
        </nav>
        <section>
          <Part />
        </section>
      </div>
    </>
  );
}
