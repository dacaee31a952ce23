# The valves of the garden.
package Valves;
use strict;
use warnings;

our %opened;
our @log;
our $limit = 40;

sub open_valve {
    my ($name) = @_;
    push @log, $name;
    return ++$opened{$name};
}

sub flow { my ($litres) = @_; return $litres > $limit ? $limit : $litres }

1;
