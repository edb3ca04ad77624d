import { hostTabs } from '@koinon/client/browser';
import { household } from '../../support/household-schema.ts';

// The replica of the contract tests.
hostTabs({ schema: household, name: self.name });
