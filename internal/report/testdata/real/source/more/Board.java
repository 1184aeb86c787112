import java.util.*;
class Board {
    List lines = new ArrayList();
    void add(Object o) { lines.add(o); }
    int depth() { switch (1) { case 1: lines.clear(); case 2: return 2; } return 0; }
}
