use strict;
use warnings;
use Valves;

sub test_opens_one { FernHost::equal('opened', Valves::open_valve('north'), 1) }

sub test_soaks_the_ferns { # leaves a valve open
    FernHost::true('it opens', Valves::open_valve('south'));
}

sub test_counts_from_nothing { FernHost::equal('opened', Valves::open_valve('south'), 1) }

sub test_storm { # leaves another flow
    no warnings 'redefine';
    *Valves::flow = sub { 99 };
    FernHost::equal('litres', Valves::flow(3), 99);
}

sub test_flow_is_limited { FernHost::equal('litres', Valves::flow(50), 40) }

sub test_needs_frost { FernHost::skip('it is warm') }

sub test_reads_a_gauge { die "no gauge\n" }

sub test_prints { print "all beds are wet\n" }

1;
