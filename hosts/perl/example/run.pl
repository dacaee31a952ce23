# Serves the tests of this folder to Fern Relay. A project of its own has FernHost.pm beside this file.
use lib '..', '.';
use FernHost;

FernHost::serve('garden', 'test_*.pl');
