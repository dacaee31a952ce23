# A test host for Fern Relay: tests in Perl, run in any order in one process.
#
# Copy this file beside your tests; it needs Perl 5.14 and nothing else. Tests are subs whose names begin with test_, in
# files that the main program names:
#
#     use lib '.';
#     use FernHost;
#     FernHost::serve('garden', 'test_*.pl');
#
# The group of a test is its file. A test passes unless it dies: a failed check is a failure, anything else an error. A
# file that cannot be loaded is an error of its group, and the others run. The program speaks the protocol fern-host/1
# over the channel that it is given, so that all that tests print is output.
package FernHost;
use strict;
use warnings;
use B ();
use Cwd ();
use JSON::PP ();
use Time::HiRes ();

my $json = JSON::PP->new->canonical->allow_nonref->allow_unknown->allow_blessed->utf8;
my (%tests, @order, @broken, @patterns, %packages, %kept);

# Checks of tests. A check that fails ends its test.
sub equal {
    my ($what, $got, $want) = @_;
    return if defined $got && defined $want && $got eq $want;
    die FernHost::Failed->new("$what: got " . ($got // 'undef') . ', want ' . ($want // 'undef'), $want, $got);
}

sub true { my ($what, $holds) = @_; die FernHost::Failed->new($what) unless $holds }
sub skip { die bless {reason => $_[0]}, 'FernHost::Skip' }

# serve answers requests until bye, or until the input ends.
sub serve {
    (my $name, @patterns) = @_;
    my ($out, $secret) = (\*STDOUT, '');
    STDOUT->autoflush(1);
    my $send = sub { print {$out} $secret, $json->encode({jsonrpc => '2.0', %{$_[0]}}), "\n"; };
    while (defined(my $line = <STDIN>)) {
        my $request = $json->decode($line);
        my ($method, $params) = ($request->{method}, $request->{params} || {});
        my $result = eval { answer($name, $method, $params, $send) };
        $send->({id => $request->{id}, $@ ? (error => {code => 1, message => words($@)}) : (result => $result)});
        if ($method eq 'hello') {
            open my $channel, '>&=', $params->{channel}{descriptor} or die "the channel: $!";
            $channel->autoflush(1);
            ($out, $secret) = ($channel, "$params->{channel}{secret} ");
        }
        last if $method eq 'bye';
    }
}

sub answer {
    my ($name, $method, $params, $send) = @_;
    return {protocol => 'fern-host/1', name => $name, channel => JSON::PP::true, looks => 'the package variables and subs of the tests and what they load, the environment and the working folder'}
        if $method eq 'hello';
    return {} if $method eq 'bye';
    die "nothing says how to make the state fresh: a new process is needed\n" if $method eq 'reset';
    load();
    return {tests => [map { my $t = $tests{$_}; +{map { $_ => $t->{$_} } qw(group name file line)} } @order], broken => \@broken} if $method eq 'discover';
    return run($params->{tests}, $send) if $method eq 'run';
    if ($method eq 'state') {
        %kept = map { ("$_->{kind} $_->{name}" => $_) } state_now();
        return {values => [map { +{kind => $_->{kind}, name => $_->{name}, value => "$_->{value}"} } map { $kept{$_} } sort keys %kept]};
    }
    return restore("$params->{kind} $params->{name}") if $method eq 'restore';
    die "there is no method $method\n";
}

# load loads the files once, and declares their tests.
sub load {
    my @files = map { my @found = glob $_; sort @found } splice @patterns;
    for my $file (@files) {
        (my $group = $file) =~ s/\.\w+$//;
        (my $package = $group) =~ s/\W/_/g; # each file has its own, as names may be the same in several
        my ($done, $wrong);
        eval "package $package; \$done = do \"./\$file\"; \$wrong = \$@";
        if ($wrong ||= defined $done ? '' : "it cannot be read: $!") {
            my $line = $wrong =~ /\Q$file\E line (\d+)/ ? $1 : 1;
            push @broken, {group => $group, file => $file, line => $line + 0, message => 'it cannot be loaded: ' . words($wrong)};
            next;
        }
        $packages{$package} = 1;
        for my $sub (grep { $_->{place}{file} eq $file } subs_of($package)) {
            next unless $sub->{name} =~ /::(test_\w+)$/;
            my $name = $1;
            $tests{"$group $name"} = {group => $group, name => $name, file => $file, line => $sub->{place}{line}, body => $sub->{code}};
        }
        push @order, sort { $tests{$a}{line} <=> $tests{$b}{line} } grep { $tests{$_}{group} eq $group } keys %tests;
    }
    for my $path (values %INC) { # packages of the project
        next unless $path && $path !~ m{^/} && $path ne 'FernHost.pm' && $path !~ m{/FernHost\.pm$} && open my $in, '<', $path;
        while (<$in>) { $packages{$1} = 1 if /^\s*package\s+([\w:]+)/ }
    }
}

sub run {
    my ($asked, $send) = @_;
    for my $t (@$asked) {
        my $test = $tests{"$t->{group} $t->{name}"} or die "there is no test $t->{name} of group $t->{group}\n";
        my %named = (group => $t->{group}, name => $t->{name});
        $send->({method => 'started', params => \%named});
        my $began = Time::HiRes::time();
        my %result = eval { $test->{body}->(); 1 } ? (outcome => 'passed') : verdict($@, $test);
        $send->({method => 'finished', params => {%named, seconds => Time::HiRes::time() - $began, %result}});
    }
    return {};
}

sub verdict {
    my ($error, $test) = @_;
    return (outcome => 'skipped', message => $error->{reason}) if ref $error eq 'FernHost::Skip';
    my $text = ref $error eq 'FernHost::Failed' ? $error->{at} : "$error";
    my $line = $text =~ /\Q$test->{file}\E line (\d+)/ ? $1 : $test->{line};
    my %place = (file => $test->{file}, line => $line + 0);
    return (outcome => 'errored', message => words($error), %place) if ref $error ne 'FernHost::Failed';
    return (outcome => 'failed', message => $error->{message}, %place, map { $_ => "$error->{$_}" } grep { defined $error->{$_} } qw(expected actual));
}

sub words { my $text = "$_[0]"; $text =~ s/\s+\z//; return (split /\n/, $text)[0] // '' }

# What tests leave behind.

sub subs_of {
    my ($package) = @_;
    no strict 'refs';
    my @found;
    for my $key (sort keys %{"${package}::"}) {
        next if $key =~ /::$/ || !defined &{"${package}::$key"};
        my $code = \&{"${package}::$key"};
        my $b = B::svref_2object($code);
        next unless $b->isa('B::CV') && $b->START->isa('B::COP');
        (my $file = $b->START->file) =~ s{^\./}{};
        push @found, {name => "${package}::$key", code => $code, place => {file => $file, line => $b->START->line}};
    }
    return @found;
}

sub state_now {
    no strict 'refs';
    no warnings 'once';
    my @values;
    for my $package ('main', sort keys %packages) {
        for my $sub (subs_of($package)) {
            my ($name, $code, $place) = @{$sub}{qw(name code place)};
            push @values, {kind => 'function', name => $name, value => "$place->{file}:$place->{line}", back => sub { no warnings 'redefine'; *{$name} = $code }};
        }
        for my $key (sort keys %{"${package}::"}) {
            next if $key !~ /^[a-z]\w*$/i || $package eq 'main' && $key =~ /^(?:ENV|INC|ARGV|STD\w+|a|b|_.*)$/;
            my $full = "${package}::$key";
            push @values, held("\$$full", \${$full}) if defined ${$full} && ref \${$full} ne 'GLOB';
            push @values, held("\@$full", \@{$full}) if @{$full};
            push @values, held("%$full", \%{$full}) if %{$full};
        }
    }
    for my $key (sort keys %ENV) {
        my $value = $ENV{$key};
        push @values, {kind => 'environment', name => $key, value => $value, back => sub { $ENV{$key} = $value }, remove => sub { delete $ENV{$key} }};
    }
    my $folder = Cwd::getcwd();
    return (@values, {kind => 'folder', name => 'working folder', value => $folder, back => sub { chdir $folder }});
}

# held is a variable, of which a copy is kept.
sub held {
    my ($name, $ref) = @_;
    my $text = eval { $json->encode(ref $ref eq 'SCALAR' || ref $ref eq 'REF' ? $$ref : $ref) } // 'it cannot be shown';
    my $set = sub {
        my $saved = $json->decode($text);
        ref $ref eq 'ARRAY' ? (@$ref = @$saved) : ref $ref eq 'HASH' ? (%$ref = %$saved) : ($$ref = $saved);
    };
    my $remove = sub { ref $ref eq 'ARRAY' ? (@$ref = ()) : ref $ref eq 'HASH' ? (%$ref = ()) : undef $$ref };
    return {kind => 'variable', name => $name, value => $text, back => $set, remove => $remove};
}

sub restore {
    my ($name) = @_;
    my ($now) = $kept{$name} || grep { "$_->{kind} $_->{name}" eq $name } state_now();
    my $back = $kept{$name} ? $now->{back} : $now && $now->{remove};
    die "the $name cannot be put back\n" unless $back || !$now;
    $back->() if $back;
    return {};
}

# Failed is a check that failed, with both sides if it compared.
package FernHost::Failed;

sub new {
    my ($class, $message, $expected, $actual) = @_;
    my ($depth, @at) = (0);
    while (my @caller = caller $depth++) { push @at, "$caller[1] line $caller[2]" }
    return bless {message => $message, expected => $expected, actual => $actual, at => join "\n", @at}, $class;
}

1;
