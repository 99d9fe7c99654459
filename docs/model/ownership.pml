/* ownership.pml - does a space always come to an owner that serves it? Leases, take-over, drain, death and pauses of nodes; for spin 6.
 *
 * NODES nodes share one row (term, node). A request comes to any node that lives; the node serves it if it owns the space and its lease
 * holds, passes it on if another owns it, and takes the space if nobody does. Time is a clock that ticks: a node that has not renewed
 * its lease between two ticks has lost it. Before `calm` the clock may tick whenever it likes, which is a pause of any node of any
 * length; from `calm` on it waits for the nodes that live. The store may restart, too: then every lease has lapsed at once.
 *
 * Checked
 *   ONE      (assertion) a commit builds on what is stored: two owners never both write.
 *   STEADY   (assertion) once all is well, a restart of the store takes no space from a node that lives.
 *   SERVED   (no cycle without progress) requests are answered again and again in the end, whoever died, paused or left before.
 *   SETTLED  (ltl) once it is calm, the space changes hands no more after a while: nodes do not take it from each other for ever.
 * Controls, each found: NOFENCE (a commit looks at no term): ONE. EAGER (a node takes what has lapsed after one renewal of its own): STEADY.
 * NEVER (a node takes only what nobody has, not what a dead node had): SERVED. GREEDY (a node takes what another serves): STEADY.
 * Not covered: sessions, messages between nodes, counts, real time, more than two nodes, more than one restart.
 *
 * RESULTS (spin 6.5.2, ./run.sh): as designed 1,419,335 states, complete, 0 errors; SETTLED 1,194,540 states, complete, 0 errors.
 */
#ifndef NODES
#define NODES 2
#endif
#define NONE 255
#ifndef LONG
#define LONG 2
#endif

byte owner = NONE;                      /* the row */
bool fresh[NODES];                      /* the term that a node took is still that of the row */
byte stored = 0;                        /* changes with each commit */
bool renewed[NODES], lapsed[NODES], leaving[NODES], dead[NODES];
byte streak[NODES];                     /* unbroken renewals of a node's own, up to LONG */
bool calm = false, restarted = false;
bool steady = false;                    /* all has been well for a while: somebody serves, and everybody renews */
byte deaths = 0;
byte moves = 0;                         /* take-overs since it is calm, up to 3 */

bool mine[NODES];                       /* what a node believes */

#ifdef SETTLED
inline count_move() { if :: calm && moves < 3 -> moves++ :: else fi }
#else
inline count_move() { skip }
#endif

#ifdef NOFENCE
#define FENCE(n) true
#else
#define FENCE(n) fresh[n]
#endif

#ifdef EAGER
#define READY(n) (!lapsed[n])
#else
#define READY(n) (!lapsed[n] && streak[n] == LONG)
#endif

#ifdef GREEDY
#define FREE(n) (owner != n)
#else
#ifdef NEVER
#define FREE(n) (owner == NONE || owner == n)
#else
#define FREE(n) (owner == NONE || owner == n || dead[owner] || lapsed[owner] || leaving[owner])
#endif
#endif

/* Renews the lease; what the row says of the node comes with the answer. */
proctype Lease(byte me)
{
  do
  :: dead[me] -> break
  :: !dead[me] && !renewed[me] ->
     atomic {
       if
       :: lapsed[me] -> lapsed[me] = false; streak[me] = 1
       :: else -> if :: streak[me] < LONG -> streak[me]++ :: else fi
       fi;
       renewed[me] = true;
       if :: mine[me] && !fresh[me] -> mine[me] = false :: else fi
     }
  od
}

/* Serves what is asked, takes the space, gives it back when the node leaves. */
proctype Work(byte me)
{
  byte seen;
  do
  :: dead[me] -> break
  :: !dead[me] && leaving[me] && mine[me] -> atomic { if :: fresh[me] -> owner = NONE; fresh[me] = false :: else fi; mine[me] = false }
  :: !dead[me] && !leaving[me] && mine[me] && !lapsed[me] ->
     seen = stored;                                     /* reads, decides; then writes, fence, commit */
     atomic {
       if
       :: FENCE(me) -> assert(seen == stored); stored = 1 - stored; seen = 0; goto progress
       :: else -> mine[me] = false; seen = 0
       fi
     };
     if :: false -> progress: skip :: else fi
  :: atomic { !dead[me] && !leaving[me] && !mine[me] && READY(me) && FREE(me) ->
       assert(!steady || owner == me);                    /* STEADY */
       if :: owner != NONE -> fresh[owner] = false :: else fi;
       owner = me; fresh[me] = true; mine[me] = true; count_move() }
  od
}

proctype Clock()
{
  byte n;
  do
  :: atomic {
       (!calm || ((dead[0] || renewed[0]) && (dead[1] || renewed[1])
#if NODES > 2
         && (dead[2] || renewed[2])
#endif
       )) ->
       n = 0;
       do
       :: n < NODES -> if :: renewed[n] -> renewed[n] = false :: else -> lapsed[n] = true; streak[n] = 0 fi; n++
       :: else -> break
       od;
       if
       :: calm && owner != NONE -> if :: !dead[owner] && !leaving[owner] && mine[owner] && fresh[owner] && streak[owner] == LONG -> steady = true :: else fi
       :: else
       fi
     }
  od
}

/* What goes wrong until it is calm; only the store's restart may come later. */
proctype Fate()
{
  byte n;
  do
  :: !calm && deaths < NODES - 1 -> atomic { if :: n = 0 :: n = 1
#if NODES > 2
       :: n = 2
#endif
     fi; if :: !dead[n] && !leaving[n] -> deaths++; if :: dead[n] = true; mine[n] = false :: leaving[n] = true fi :: else fi }
  :: !restarted -> atomic { restarted = true; n = 0; do :: n < NODES -> lapsed[n] = true; streak[n] = 0; renewed[n] = false; n++ :: else -> break od }
  :: !calm -> calm = true
  :: calm && restarted -> break
  od
}

init { atomic { byte i = 0; do :: i < NODES -> lapsed[i] = true; run Lease(i); run Work(i); i++ :: else -> break od; run Clock(); run Fate() } }

#ifdef SETTLED
ltl settled { [] (calm -> <>[] (moves < 3)) }
#endif
