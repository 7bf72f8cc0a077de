import { Injectable } from '@nestjs/common';
import { DirectorySignIn } from '../directory/sign-in.service.js';
import { passwordMatches } from '../platform/passwords.js';
import type { Person } from './people.entity.js';

/** Whether somebody types their own password: the directory says so of those whose it knows; of others what is kept here. */
@Injectable()
export class OwnPassword {
  constructor(private readonly directory: DirectorySignIn) {}

  /** @param person null: nobody, which takes as long. @throws Problem directory.away */
  async isRight(person: Pick<Person, 'id' | 'passwordHash'> | null, password: string): Promise<boolean> {
    const byDirectory = person && (await this.directory.check(person.id, password));
    return byDirectory ?? passwordMatches(person?.passwordHash ?? null, password);
  }
}
