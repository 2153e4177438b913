// Boards for Swift, beside Pantry.swift and Records.swift, for apps whose framework has package boards:
// the same keys, on a board that several phones share.
//
// NOT COMPILED, as Pantry.swift says.
//
//     final class Garden: Declared {
//         let tankLitres = Key.int("tank/litres", 0, in: 0...5000)
//     }
//     let board = try await Board.join(link, garden, clientName: "tankwatch", offline: directory)
//     let tank = try board[garden.tankLitres]
//     for await known in tank.changes { label.text = "\(known.value) \(known.phase)" }
//     try await tank.add(-10)                 // waits for the network; a cancelled task ends the call
//
// With offline, a change that can't be sent is no error: it is stored on the device and sent later, exactly
// once. Until then its phase is queued.

import Foundation
import Mobile // the framework has both packages

/// How far a value can be trusted.
public enum Phase: String {
    /// The server has not answered yet; the value is the default.
    case unknown
    /// The value as the server has it.
    case current
    /// A change of this app is being sent.
    case sending
    /// Changes wait for the network.
    case queued
    /// The server can't be reached; the value is the one of asOf.
    case stale
    /// The stored value can't be used; the value is the default.
    case unreadable
    /// The newest change of this app was refused; problem says why.
    case refused
}

/// What is known of a value on a board.
public struct Known<T> {
    public let value: T
    /// The value after all queued changes are stored.
    public let waiting: T
    public let phase: Phase
    public let found: Bool
    public let mine: Bool
    public let queued: Int
    public let version: Int64
    /// When it was changed, by the server's clock.
    public let updated: Date?
    /// When the server last confirmed it, possibly before this launch.
    public let asOf: Date?
    /// The app that changed it.
    public let by: String
    /// The reason of the phase.
    public let problem: PantryError?
}

/// A variable on a board as the library has it. Its values are those of Form.into and Form.out.
struct BoardPort {
    let get: () throws -> Any
    let waiting: () throws -> Any
    let set: (BoardsCall, Any) throws -> Void
    let seed: (BoardsCall, Any) throws -> Void
    let clear: (BoardsCall) throws -> Void
    let state: () throws -> BoardsState
    let watch: (MobileRunnerProtocol, MobileHandlerProtocol) throws -> MobileWatching
    var add: ((BoardsCall, Any) throws -> Any)?
    var raise: ((BoardsCall, Any) throws -> Any)?
    var lower: ((BoardsCall, Any) throws -> Any)?
    var list: BoardsListVar?
}

private func whole(_ f: (UnsafeMutablePointer<Int64>) throws -> Void) throws -> Int64 {
    var x: Int64 = 0
    try f(&x)
    return x
}

private func decimal(_ f: (UnsafeMutablePointer<Double>) throws -> Void) throws -> Double {
    var x = 0.0
    try f(&x)
    return x
}

private func flag(_ f: (UnsafeMutablePointer<ObjCBool>) throws -> Void) throws -> Bool {
    var x: ObjCBool = false
    try f(&x)
    return x.boolValue
}

private func port(_ own: AnyObject, _ b: BoardsBoard) throws -> BoardPort {
    switch own {
    case let k as MobileIntKey:
        let v = try b.intVar(k)
        return BoardPort(get: { try whole { try v.get($0) } }, waiting: { try whole { try v.waiting($0) } }, set: { try v.set($0, x: $1 as! Int64) }, seed: { try v.seed($0, x: $1 as! Int64) },
                         clear: { try v.clear($0) }, state: v.state, watch: v.watch,
                         add: { c, n in try whole { try v.add(c, n: n as! Int64, ret0_: $0) } }, raise: { c, n in try whole { try v.raise(c, n: n as! Int64, ret0_: $0) } },
                         lower: { c, n in try whole { try v.lower(c, n: n as! Int64, ret0_: $0) } })
    case let k as MobileFloatKey:
        let v = try b.floatVar(k)
        return BoardPort(get: { try decimal { try v.get($0) } }, waiting: { try decimal { try v.waiting($0) } }, set: { try v.set($0, x: $1 as! Double) }, seed: { try v.seed($0, x: $1 as! Double) },
                         clear: { try v.clear($0) }, state: v.state, watch: v.watch,
                         add: { c, x in try decimal { try v.add(c, x: x as! Double, ret0_: $0) } }, raise: { c, x in try decimal { try v.raise(c, x: x as! Double, ret0_: $0) } },
                         lower: { c, x in try decimal { try v.lower(c, x: x as! Double, ret0_: $0) } })
    case let k as MobileBoolKey:
        let v = try b.boolVar(k)
        return BoardPort(get: { try flag { try v.get($0) } }, waiting: { try flag { try v.waiting($0) } }, set: { try v.set($0, x: $1 as! Bool) }, seed: { try v.seed($0, x: $1 as! Bool) },
                         clear: { try v.clear($0) }, state: v.state, watch: v.watch)
    case let k as MobileTextKey:
        let v = try b.textVar(k)
        return BoardPort(get: { try thrown { v.get($0) } }, waiting: { try thrown { v.waiting($0) } }, set: { try v.set($0, x: $1 as? String) }, seed: { try v.seed($0, x: $1 as? String) },
                         clear: { try v.clear($0) }, state: v.state, watch: v.watch)
    case let k as MobileBytesKey:
        let v = try b.bytesVar(k)
        return BoardPort(get: { try some { try v.get() } }, waiting: { try some { try v.waiting() } }, set: { try v.set($0, x: $1 as? Data) }, seed: { try v.seed($0, x: $1 as? Data) },
                         clear: { try v.clear($0) }, state: v.state, watch: v.watch)
    case let k as MobileTimeKey:
        let v = try b.timeVar(k)
        return BoardPort(get: { try whole { try v.get($0) } }, waiting: { try whole { try v.waiting($0) } }, set: { try v.set($0, x: $1 as! Int64) }, seed: { try v.seed($0, x: $1 as! Int64) },
                         clear: { try v.clear($0) }, state: v.state, watch: v.watch)
    case let k as MobileDurationKey:
        let v = try b.durationVar(k)
        return BoardPort(get: { try whole { try v.get($0) } }, waiting: { try whole { try v.waiting($0) } }, set: { try v.set($0, x: $1 as! Int64) }, seed: { try v.seed($0, x: $1 as! Int64) },
                         clear: { try v.clear($0) }, state: v.state, watch: v.watch)
    case let k as MobileListKey:
        let v = try b.listVar(k)
        return BoardPort(get: { try v.get() }, waiting: { try v.waiting() }, set: { try v.set($0, l: $1 as? MobileItems) }, seed: { try v.seed($0, l: $1 as? MobileItems) },
                         clear: { try v.clear($0) }, state: v.state, watch: v.watch, list: v)
    default:
        throw PantryError("misuse: this key can't be on a board")
    }
}

private let asking = DispatchQueue(label: "pantry.board", attributes: .concurrent)

/// Waits for the network. A cancelled task ends the call, and what was sent may have been stored.
private func asked<T>(_ f: @escaping (BoardsCall) throws -> T) async throws -> T {
    let call = BoardsNewCall()!
    return try await withTaskCancellationHandler {
        try await written(on: asking) { try f(call) }
    } onCancel: {
        call.giveUp()
    }
}

/// A key's variable on a board. It can be used by several threads at once.
public struct BoardVariable<T> {
    let form: Form<T>
    let port: BoardPort

    /// The newest known value, or else the default. It does not wait.
    public var value: T { get throws { try calling { try form.out(port.get()) } } }

    /// What is known. It does not wait.
    public var known: Known<T> {
        get throws {
            try calling {
                let s = try port.state()
                func date(_ millis: Int64) -> Date? { millis == 0 ? nil : moment(millis) }
                return Known(value: try form.out(port.get()), waiting: try form.out(port.waiting()), phase: Phase(rawValue: s.phase) ?? .unknown, found: s.found, mine: s.mine, queued: s.queued,
                             version: s.version, updated: date(s.updated), asOf: date(s.asOf), by: s.by, problem: s.trouble.isEmpty ? nil : PantryError(s.trouble))
            }
        }
    }

    /// Stores a value, even if somebody else has stored one meanwhile.
    public func set(_ x: T) async throws { try await asked { try port.set($0, form.into(x)) } }

    /// Stores a value if nothing is stored.
    public func seed(_ x: T) async throws { try await asked { try port.seed($0, form.into(x)) } }

    /// Removes what is stored.
    public func clear() async throws { try await asked { try port.clear($0) } }

    /// What is known now, and the newest after each change of it.
    public var changes: AsyncStream<Known<T>> { stream(port.watch) { try self.known } }

    /// The same for a SwiftUI view.
    @MainActor public func observed() throws -> Observed<Known<T>> { Observed(try known, changes) }
}

extension BoardVariable where T: Numeric {
    /// Adds a number on the server, so that the additions of all phones count, and returns the sum.
    public func add(_ n: T) async throws -> T { try await asked { try form.out(port.add!($0, form.into(n))) } }

    /// Stores n if it is larger than the stored value, and returns what is stored.
    public func raise(_ n: T) async throws -> T { try await asked { try form.out(port.raise!($0, form.into(n))) } }

    /// Stores n if it is smaller than the stored value, and returns what is stored.
    public func lower(_ n: T) async throws -> T { try await asked { try form.out(port.lower!($0, form.into(n))) } }
}

extension BoardVariable {
    /// Appends items at the end. With unique, items that the list has are left out.
    public func append<E>(_ some: E..., unique: Bool = false) async throws where T == [E] {
        try await asked { try port.list!.append($0, items: form.into(some) as? MobileItems, unique: unique) }
    }

    /// Removes the first item that equals each of some. With all, every equal item.
    public func remove<E>(_ some: E..., all: Bool = false) async throws where T == [E] {
        try await asked { try port.list!.remove($0, items: form.into(some) as? MobileItems, all: all) }
    }

    /// Removes an item and returns it: 0 is the first, -1 the last. Each caller gets another item. If there is
    /// none, the error's code is absent. It can't be queued: without a network the code is unreachable.
    public func take<E>(_ at: Int) async throws -> E where T == [E] {
        try await asked { try form.out(port.list!.take($0, at: at))[0] }
    }
}

/// A collection on a board, as far as is known.
public struct BoardRecords<R: Codable> {
    let key: RecordsKey<R>
    let r: BoardsRecords

    /// All known records that can be read, in order. It does not wait.
    public var all: [Stored<R>] { get throws { try calling { try key.readable(r.ids(), r.get) } } }

    /// Stores a record under a new random id, and returns the id, which is valid without a network too.
    public func add(_ x: R) async throws -> String {
        let record = try calling { try key.record(x) }
        return try await asked { c in try thrown { r.add(c, one: record, error: $0) } }
    }

    /// Stores a record under an id, and replaces an existing one.
    public func put(_ id: String, _ x: R) async throws { try await asked { try r.put($0, id_: id, one: key.record(x)) } }

    /// Removes a record if there is one.
    public func drop(_ id: String) async throws { try await asked { try r.drop($0, id_: id) } }

    /// All known records now, and after each change.
    public var changes: AsyncStream<[Stored<R>]> { stream(r.watch) { try self.all } }

    /// The same for a SwiftUI view.
    @MainActor public func observed() throws -> Observed<[Stored<R>]> { Observed(try all, changes) }
}

/// A board that an app has joined.
public final class Board {
    private let b: BoardsBoard

    private init(_ b: BoardsBoard) { self.b = b }

    /// Joins the board of a link. It needs no network. offline is a directory of the app, for what can't be sent yet.
    public static func join(_ link: String, _ declared: Declared, clientName: String = "", offline: String? = nil) async throws -> Board {
        try await written(on: asking) {
            let options = BoardsNewOptions()!
            if !clientName.isEmpty { _ = options.clientName(clientName) }
            if let offline { _ = options.offline(offline) }
            return Board(try thrown { BoardsJoin(link, declared.library(), options, $0)! })
        }
    }

    public subscript<T>(_ key: Key<T>) -> BoardVariable<T> {
        get throws {
            try calling {
                let form = try key.form()
                return BoardVariable(form: form, port: try port(form.own, b))
            }
        }
    }

    public subscript<R>(_ key: RecordsKey<R>) -> BoardRecords<R> {
        get throws { try calling { BoardRecords(key: key, r: try b.records(key.own())) } }
    }

    /// Waits until the server has returned the values of all variables.
    public func ready() async throws { try await asked { try self.b.ready($0) } }

    /// How many changes wait to be sent.
    public var pending: Int { b.pending() }

    /// Why the server can't be reached now; nil if it can.
    public var problem: PantryError? { b.trouble().isEmpty ? nil : PantryError(b.trouble()) }

    /// Stops requests for changes, for example while the app is not visible, until resume.
    public func pause() { b.pause() }
    public func resume() { b.resume() }

    /// The queue stays stored.
    public func close() throws { try calling { try b.close() } }
}
